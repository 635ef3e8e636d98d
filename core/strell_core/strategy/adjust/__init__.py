"""Adjustments, one file each."""
