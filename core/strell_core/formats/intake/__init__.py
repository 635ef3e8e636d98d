"""Reading option chains in open formats: which column is what, rows checked one by one, sessions built."""
