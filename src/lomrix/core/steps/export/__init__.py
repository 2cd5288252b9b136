"""Export: missing cells become the codes that another program needs, and bare files only numbers."""
