"""The pictures of a report as SVG, drawn by matplotlib. Every function gives the text of one ``<svg>``."""

from __future__ import annotations

import datetime as dt
import io
from collections.abc import Sequence
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from strell_core.market.prices import grouped

INK, SOFT, LINE, SEA, GAIN, LOSS = "#18242d", "#5c6670", "#e8e2d4", "#0f5c6e", "#1c69a6", "#a84b14"
STROKES = ((SEA, "-"), (LOSS, "-"), (GAIN, "-"), (INK, "-"), (SEA, "--"), (LOSS, "--"), (GAIN, "--"), (INK, "--"))
# text stays text, and the same run gives the same bytes
STYLE: Any = {
    "svg.fonttype": "none", "svg.hashsalt": "strell", "text.parse_math": False, "font.size": 8, "axes.edgecolor": LINE, "axes.labelcolor": SOFT,
    "xtick.color": SOFT, "ytick.color": SOFT, "text.color": INK, "axes.grid": True, "grid.color": LINE,
    "grid.linewidth": 0.6, "axes.spines.top": False, "axes.spines.right": False, "axes.spines.left": False,
    "figure.facecolor": "none", "axes.facecolor": "none", "savefig.facecolor": "none",
}  # fmt: skip


def curve(dates: Sequence[dt.date], equity: Sequence[float], drawdown: Sequence[float], spot: Sequence[float], vol: Sequence[float | None], currency: str) -> str:  # fmt: skip
    """Equity with the underlying on a scale of its own, the drawdown, and at-the-money IV where it is known."""
    known = [value for value in vol if value is not None]
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(7.4, 3.8))
        figure.subplots_adjust(left=0.085, right=0.995, top=0.985, bottom=0.07, hspace=0.12)
        rows = figure.subplots(3 if known else 2, 1, sharex=True, height_ratios=[3, 1, 0.7][: 3 if known else 2])
        _line(rows[0], dates, equity, f"equity, {currency}", SEA, 1.3)
        _thousands(rows[0])
        other = rows[0].twinx()
        other.plot(np.array(dates, "datetime64[D]"), spot, color="#9aa3a8", linewidth=0.6)
        other.set_axis_off()
        rows[1].fill_between(
            np.array(dates, "datetime64[D]"), [100 * value for value in drawdown], color=LOSS, alpha=0.18
        )
        _line(rows[1], dates, [100 * value for value in drawdown], "drawdown, %", LOSS, 0.9)
        if known:
            _line(rows[2], dates, [np.nan if value is None else value for value in vol], "IV, %", INK, 0.8)
        return _svg(figure, rows[-1])


def spread(pnl: Sequence[float], currency: str) -> str:
    """How much trades made: so many in each range."""
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(3.6, 2.0))
        figure.subplots_adjust(left=0.13, right=0.98, top=0.97, bottom=0.24)
        axes = figure.subplots()
        edges = np.histogram_bin_edges(pnl, bins="auto") if len(set(pnl)) > 1 else np.array([pnl[0] - 1, pnl[0] + 1])
        counts, edges = np.histogram(pnl, edges[:: max(1, len(edges) // 60)] if len(edges) > 60 else edges)
        middles = (edges[1:] + edges[:-1]) / 2
        axes.bar(middles, counts, np.diff(edges) * 0.92, color=[GAIN if at > 0 else LOSS for at in middles])
        axes.axvline(0, color=INK, linewidth=0.8)
        axes.set_xlabel(f"P/L of a trade, {currency}")
        axes.set_ylabel("trades")
        axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: grouped(value)))
        return _svg(figure)


def overlay(curves: Sequence[tuple[Sequence[dt.date], Sequence[float]]]) -> str:
    """Equity of several runs, each from 100, in the strokes of STROKES."""
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(7.4, 3.0))
        figure.subplots_adjust(left=0.055, right=0.995, top=0.98, bottom=0.09)
        axes = figure.subplots()
        for (dates, equity), (colour, dash) in zip(curves, STROKES, strict=False):
            axes.plot(np.array(dates, "datetime64[D]"), equity, color=colour, linestyle=dash, linewidth=1.1)
        return _svg(figure, axes)


def _line(axes: Axes, dates: Sequence[dt.date], values: Sequence[float], label: str, colour: str, width: float) -> None:
    axes.plot(np.array(dates, "datetime64[D]"), list(values), color=colour, linewidth=width)
    axes.set_ylabel(label)
    axes.margins(x=0)


def _thousands(axes: Axes) -> None:
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: grouped(value)))


def _svg(figure: Figure, dated: Any = None) -> str:
    if dated is not None:
        locator = AutoDateLocator()  # type: ignore[no-untyped-call]
        dated.xaxis.set_major_locator(locator)
        dated.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    out = io.StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    return text[text.index("<svg") :]
