"""Passwords of tests."""

from django.contrib.auth.hashers import Argon2PasswordHasher


class CheapArgon2(Argon2PasswordHasher):
    """As the application keeps them, but made in no time."""

    time_cost, memory_cost, parallelism = 1, 8, 1
