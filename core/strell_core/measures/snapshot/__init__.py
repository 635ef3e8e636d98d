"""Measures of a market within its session, known at every snapshot."""
