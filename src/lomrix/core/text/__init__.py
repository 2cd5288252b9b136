"""How text becomes typed values."""
