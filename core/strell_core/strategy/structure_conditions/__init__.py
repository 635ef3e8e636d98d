"""Conditions on the legs picked, one file each."""
