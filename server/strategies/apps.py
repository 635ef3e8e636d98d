"""Strategies, and the check that what they are written with holds together."""

from typing import Any

from django.apps import AppConfig
from django.core.checks import CheckMessage, Error, register

from config.process import DECLARATIONS


class StrategiesConfig(AppConfig):
    name = "strategies"

    def ready(self) -> None:
        register(declarations_hold, DECLARATIONS)


def declarations_hold(**_: Any) -> list[CheckMessage]:
    """A declaration that contradicts itself stops the process when it starts."""
    from strell_core.strategy.soundness import mistakes

    return [Error(text, id="strategies.E001") for text in mistakes()]
