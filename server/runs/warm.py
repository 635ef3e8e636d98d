"""First computation before the first user waits for it: compiled kernels loaded, cubes mapped."""

from __future__ import annotations

import fcntl
import logging
import threading
import time
from contextlib import suppress
from decimal import Decimal
from pathlib import Path

import numba
from django.db import DatabaseError, connection

from config.errors import NotThere
from market.models import Underlying
from market.timelines import timeline
from observe import services as observe
from strategies.preview import preview
from strell_core.engine.lives import Beyond
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.engine.variants import Variants
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import normalise, parse

log = logging.getLogger("strell.warm")

_SAMPLE = {
    "name": "warm-up", "underlyings": ["MK30"],
    "entries": [
        {
            "when": [{"rule": "decision_times"}],
            "legs": [
                {"rule": "leg", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "nearest_days"}},
                {"rule": "leg", "right": "call", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "same_expiration"}},
            ],
            "size": [{"rule": "fixed_lots"}],
        },
    ],
    "leave": [{"rule": "credit_target"}, {"rule": "premium_stop"}],
}  # fmt: skip


def warm_up(history: Timeline) -> None:
    """Run a small backtest, a variant and a preview, so that the first person does not wait for any."""
    document = normalise({**_SAMPLE, "underlyings": [history.underlying.symbol]})
    plan = make_plan(parse(document), history)
    end = int(history.first[min(len(history.dates), 40)])
    run_blocks(plan, history, 0, end, Decimal(50_000))
    with suppress(Beyond):
        Variants(Market(history), 0, end).run(plan, Decimal(50_000))
    preview(document, 0, None)
    look(history.underlying.symbol)


def look(symbol: str) -> None:
    """What the Market page asks for first: curves, a chain, one leg."""
    observe.surface(symbol, None)
    rows = observe.chain(symbol, None, None, 1)["rows"]
    if rows:
        leg = observe.Held(rows[0]["put"]["contract"], 1.0, 1.0)
        observe.what_if(symbol, None, [leg], observe.Pull(None, None, 0.0, {}, "gamma"))


def is_compiling() -> bool:
    """Whether what rules ask of arrays is being compiled beside the start, as after an update (`ops/setup.sh`)."""
    try:
        with (Path(numba.config.CACHE_DIR or ".") / "compiling").open() as lock:
            fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except BlockingIOError:
        return True
    return False


def warm_all() -> None:
    """Warm every underlying that has data; what cannot be opened yet is left for later. Waits for what is being compiled."""
    while is_compiling():
        time.sleep(0.5)
    try:
        for symbol in Underlying.objects.exclude(data_digest="").values_list("symbol", flat=True):
            warm_up(timeline(symbol))
    except (NotThere, DatabaseError) as error:
        log.warning("not warmed up: %s", error)
    finally:
        connection.close()


def warm_in_background() -> None:
    threading.Thread(target=warm_all, name="warm-up", daemon=True).start()
