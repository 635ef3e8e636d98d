"""Measures of the whole chain at an instant."""
