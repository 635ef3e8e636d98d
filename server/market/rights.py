"""Whose data it is. Everybody reads all of it; shared data is the operator's to change, what somebody loaded under a new
symbol is theirs."""

from __future__ import annotations

from django.contrib.auth.models import User

from config.errors import Forbidden
from market.models import Underlying, Venue


def may_change(user: User, row: Underlying) -> bool:
    """Whether ``user`` may load, correct and take out data of an underlying."""
    if user.is_staff:
        return True
    return row.owner_id == user.pk and not Venue.objects.filter(underlying=row).exists()


def need_change(user: User, row: Underlying) -> None:
    """Raise :class:`Forbidden` with what can be done instead."""
    if not may_change(user, row):
        whose = "the operator's" if row.owner_id is None else "somebody else's"
        raise Forbidden(
            f"{row.symbol} is {whose} to change. Make a copy of it under a symbol of your own, or load your file under one."
        )


def need_operator(user: User, what: str) -> None:
    """Raise :class:`Forbidden` for shared data that belongs to no underlying."""
    if not user.is_staff:
        raise Forbidden(
            f"{what} are everybody's, and the operator's to change. A series of your own may hold the same."
        )
