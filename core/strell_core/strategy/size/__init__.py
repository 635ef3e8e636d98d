"""How many lots, one file each."""
