"""Measures of a position."""
