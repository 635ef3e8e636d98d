"""Frozen values with some of their fields changed, many times a snapshot."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dataclasses import replace as changed
else:

    def changed(item, /, **values):
        """As :func:`dataclasses.replace`, ten times as fast: it takes the fields as they are instead of initialising
        anew, so that it is for plain values alone, which check nothing and keep nothing computed."""
        made = object.__new__(type(item))
        made.__dict__.update(item.__dict__, **values)
        return made


__all__ = ["changed"]
