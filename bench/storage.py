"""Stored sessions and the local cache: bytes a quote, and how long reading takes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bench.timing import median_seconds, table
from strell_core.market.chains import SessionChain, decode, encode
from strell_core.scenario.generator import Settings
from tests.demo import demo_history, payloads


def _from_database(chain: SessionChain) -> tuple[float, str]:
    """Seconds to fetch and decode 78 snapshots of 1 500 contracts from PostgreSQL; and what that was."""
    import os

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
    import django

    django.setup()
    from django.db import transaction

    from market.models import SessionChainRow, Underlying

    rows, columns = slice(0, 1500), slice(0, 78)
    contracts = chain.contracts[:1500]
    dates = tuple(sorted({c.expiration for c in contracts}))
    small = replace(
        chain, times=chain.times[columns], spot=chain.spot[columns], expirations=dates, forward=chain.forward[: len(dates), columns],
        contracts=contracts, bid=np.ascontiguousarray(chain.bid[rows, columns]), ask=np.ascontiguousarray(chain.ask[rows, columns]),
        iv=np.ascontiguousarray(chain.iv[rows, columns]), open_interest=chain.open_interest[rows], volume=chain.volume[rows],
    )  # fmt: skip
    payload = encode(small)
    with transaction.atomic():
        owner = Underlying.objects.create(
            symbol="BENCH", name="bench", currency="EUR", multiplier=1, quantum="0.05", calendar="MARROWICK", rate=0.0
        )
        SessionChainRow.objects.create(
            underlying=owner, date=chain.date, digest="x", conventions="x", snapshots=78, contracts=1500, crossed=0, payload=payload
        )  # fmt: skip

        def load() -> None:
            decode(bytes(SessionChainRow.objects.values_list("payload", flat=True).get(underlying=owner)))

        taken = median_seconds(load, 50)
        transaction.set_rollback(True)
    return taken, f"{len(payload) / 1024:.0f} kB"


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
    loaded, size = _from_database(chain)
    table(
        f"A five-minute session: {len(chain.times)} snapshots × {len(chain.contracts)} contracts",
        ("what", "figure"),
        [
            ("bytes a quote (bid, ask, IV, with everything else of the session)", f"{sum(map(len, intraday)) / quotes:.2f}"),
            (f"78 snapshots × 1 500 contracts from PostgreSQL, fetched and decoded ({size})", f"{1000 * loaded:.1f} ms"),
            ("encode", f"{1000 * median_seconds(lambda: encode(chain)):.1f} ms"),
            ("decode", f"{1000 * median_seconds(lambda: decode(stored)):.1f} ms"),
            ("cache: one expiration at an instant", f"{1e6 * median_seconds(lambda: timeline.view(index).slice(expiration, 'put'), 200):.0f} µs"),
            ("cache: one contract over thirty five-minute sessions", f"{1e6 * median_seconds(lambda: np.array(cube.bid[row, -30 * 101 :]), 200):.0f} µs"),
            ("cache: one contract over its life", f"{1e6 * median_seconds(lambda: np.array(cube.bid[row]), 200):.0f} µs"),
        ],
    )  # fmt: skip
