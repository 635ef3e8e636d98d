"""Measures of legs that were picked together."""
