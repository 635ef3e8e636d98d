"""Instruments, contracts, sessions and chains."""
