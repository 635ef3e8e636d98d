"""Measures of completed sessions."""
