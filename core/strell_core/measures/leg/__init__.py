"""Measures of one leg, picked or held."""
