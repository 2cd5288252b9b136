"""Compare: a measure before and after, between groups, or against another measure."""
