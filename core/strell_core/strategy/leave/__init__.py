"""Exits, one file each."""
