"""What commands that become a process have in common."""

from __future__ import annotations

from django.core.management.base import BaseCommand

DECLARATIONS = "declarations"
"""The check of what strategies are written with."""


class ProcessCommand(BaseCommand):
    """Checks what it rests on when it starts, and not the pages it does not serve: those are half of a start."""

    requires_system_checks = (DECLARATIONS,)
