"""Conditions for opening, one file each."""
