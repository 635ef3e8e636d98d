"""Stored sessions and the local cache: bytes a quote, and how long reading takes."""

from __future__ import annotations

import numpy as np

from bench.timing import median_seconds, table
from strell_core.market.chains import decode, encode
from strell_core.scenario.generator import Settings
from tests.demo import demo_history, payloads


def run() -> None:
    stored = payloads(Settings())[-1]
    chain = decode(stored)
    intraday = payloads(Settings())[630:]
    quotes = sum(decode(data).quotes for data in intraday)
    timeline = demo_history()
    index = len(timeline.times) - 50
    expiration = timeline.view(index).expirations[3]
    cube = timeline.cubes[expiration]
    row = cube.row("put", int(cube.strikes[len(cube.strikes) // 2]))
    table(
        f"A five-minute session: {len(chain.times)} snapshots × {len(chain.contracts)} contracts",
        ("what", "figure"),
        [
            ("bytes a quote (bid, ask, IV, with everything else of the session)", f"{sum(map(len, intraday)) / quotes:.2f}"),
            ("encode", f"{1000 * median_seconds(lambda: encode(chain)):.1f} ms"),
            ("decode", f"{1000 * median_seconds(lambda: decode(stored)):.1f} ms"),
            ("cache: one expiration at an instant", f"{1e6 * median_seconds(lambda: timeline.view(index).slice(expiration, 'put'), 200):.0f} µs"),
            ("cache: one contract over its life", f"{1e6 * median_seconds(lambda: np.array(cube.bid[row]), 200):.0f} µs"),
        ],
    )  # fmt: skip
