"""Fills, costs and policies, one file each."""
