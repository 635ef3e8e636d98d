"""Choosing an expiration by rule, one file each."""
