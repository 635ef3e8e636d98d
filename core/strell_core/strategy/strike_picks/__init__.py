"""Choosing a strike by rule, one file each."""
