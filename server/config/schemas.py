"""Shapes that routes of several apps share."""

from decimal import Decimal
from typing import Annotated

from ninja import Schema
from pydantic import BaseModel, BeforeValidator, ConfigDict

from strell_core.market.prices import number


class Asked(BaseModel):
    """What a request's body says: an object, with nothing in it that nobody reads. A name typed wrong is told, not left
    to its default."""

    model_config = ConfigDict(extra="forbid")


Number = Annotated[Decimal, BeforeValidator(number)]
"""An amount as it was typed or sent, of a size that amounts have."""


class ProblemOut(Schema):
    path: str
    message: str
