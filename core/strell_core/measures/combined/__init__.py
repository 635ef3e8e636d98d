"""Measures that are made of other values."""
