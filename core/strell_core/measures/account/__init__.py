"""Measures of the account that is traded in."""
