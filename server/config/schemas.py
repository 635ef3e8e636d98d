"""Shapes that answers of several apps share."""

from ninja import Schema


class ProblemOut(Schema):
    path: str
    message: str
