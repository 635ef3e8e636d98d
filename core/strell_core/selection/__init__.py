"""Expirations, strikes and structures picked from a chain view, with the reason for each."""
