"""Runs told on paper: one HTML file that needs nothing else, and prints as a clean PDF."""

from __future__ import annotations

from collections.abc import Sequence

from django.contrib.auth.models import User
from django.template.loader import render_to_string

from config.errors import Refused
from runs.models import Run
from runs.reporting import content


def of_run(run: Run) -> str:
    """A finished run's report; raises :class:`Refused` for one without a result."""
    if run.status != Run.Status.DONE:
        raise Refused(f"Run {run.number} has no result to tell: it is {run.status}.")
    return render_to_string("runs/report.html", content.of_run(run))


def of_comparison(user: User, runs: Sequence[int]) -> str:
    """Two to eight finished runs side by side; raises as :func:`runs.compare.compared`."""
    return render_to_string("runs/comparison.html", content.of_comparison(user, runs))
