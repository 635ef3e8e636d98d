"""Sweeps: many variants of a strategy's rules at once."""

from django.apps import AppConfig


class SweepsConfig(AppConfig):
    name = "sweeps"
