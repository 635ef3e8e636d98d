"""Limits over all open trades of a strategy, one file each."""
