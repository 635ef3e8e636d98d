"""What asking a thousand questions costs: a sweep's variant beside a whole run, slices of a large run, a sweep's map."""

from __future__ import annotations

import time
from decimal import Decimal
from typing import Any

import numpy as np

from bench.timing import median_seconds, table
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.market.market import market_of
from strell_core.results.plateau import neighbourhoods
from strell_core.results.report import report
from strell_core.results.slices import Column, Names, Numbers, sliced
from strell_core.results.variant import Cells, Outcome, outcome
from strell_core.strategy.document import normalise, parse
from strell_core.strategy.sweeps import Dial, Variations, cells, taken, varied
from tests.demo import demo_history
from tests.examples import example

CASH = Decimal(50_000)
DELTAS = ("entries/0/legs/0/strike/delta", "entries/0/legs/1/strike/delta")


def variants() -> list[list[str]]:
    """The demo strangle over its whole history: one run with all that is read of it, and a sweep of 30 variants."""
    timeline = demo_history()
    document = normalise(example("harbour-strangle"))
    end = len(timeline.times)

    def run() -> None:
        plan = make_plan(parse(document), timeline)
        report(plan, timeline, run_blocks(plan, timeline, 0, end, CASH, until_ruin=True), 0, end, CASH, 1)

    dials = [Dial(DELTAS, (0.1, 0.14, 0.18, 0.22, 0.26, 0.3)), Dial(("leave/0/percent",), (30, 40, 50, 60, 70))]
    return [
        ["one run of the demo strangle with its report", f"{1000 * median_seconds(run):.0f}"],
        *swept("30 variants of it", document, dials, 0),
    ]


def thousand() -> list[list[str]]:
    """The demo condor over its last 252 sessions, with every value of the dials."""
    document = normalise(example("tide-condor"))
    return swept("1 000 variants of the demo condor over a year", document, dials(), int(demo_history().first[-253]))


def dials() -> list[Dial]:
    """Five deltas of its shorts, two of its longs, ten targets, ten days at which it leaves before expiration."""
    leg = "entries/0/legs/{}/strike/delta"
    return [
        Dial((leg.format(0), leg.format(2)), (0.12, 0.14, 0.16, 0.18, 0.2)),
        Dial((leg.format(1), leg.format(3)), (0.04, 0.05)),
        Dial(("leave/0/percent",), tuple(range(30, 80, 5))),
        Dial(("leave/2/days",), tuple(range(1, 11))),
    ]


def swept(what: str, document: dict[str, Any], dials: list[Dial], begin: int) -> list[list[str]]:
    """A sweep from the document to its figures, every variant; and a few of them each as a run of its own."""
    timeline = demo_history()
    market, end = market_of(timeline), len(timeline.times)
    made, variations = [taken(dials, cell) for cell in cells(dials)], Variations(document)

    def own(values: dict[str, Any]) -> Outcome:
        return outcome(make_plan(parse(varied(document, values)), timeline), market, begin, end, CASH)

    def shared(values: dict[str, Any]) -> Outcome:
        return together.outcome(make_plan(variations.strategy(variations.document(values)), timeline), CASH)

    few = made[:: max(1, len(made) // 10)][:10]
    began = time.perf_counter()
    alone = [own(values) for values in few]
    each = (time.perf_counter() - began) / len(few)
    together = Cells(market, begin, end)
    began = time.perf_counter()
    found = [shared(values) for values in made]
    whole = time.perf_counter() - began
    same = all(found[made.index(values)].figures == one.figures for values, one in zip(few, alone, strict=True))
    if not same or together.differed:
        raise SystemExit("what is shared does not tell what a run tells")
    alone_still = sum(not one.shared for one in found)
    return [
        [f"{what}: each as a run of its own, mean of {len(few)}", f"{1000 * each:.0f}"],
        [f"{what}: together, each", f"{1000 * whole / len(made):.1f}"],
        [
            f"{what}: together, all" + (f" ({alone_still} by runs of their own)" if alone_still else ""),
            f"{1000 * whole:.0f}",
        ],
    ]


def in_turns(document: dict[str, Any], begin: int) -> float:
    """How many times as much of a processor a sweep takes as the plain thousand, twenty variants of the one after twenty of the
    other: a machine is not as fast from one minute to the next."""
    timeline = demo_history()
    made = [taken(dials(), cell) for cell in cells(dials())]
    plain = normalise(example("tide-condor"))
    sweeps = [(Variations(one), Cells(market_of(timeline), begin, len(timeline.times))) for one in (plain, document)]
    seconds = [0.0, 0.0]
    for at in range(0, len(made), 20):
        for which, (variations, together) in enumerate(sweeps):
            began = time.process_time()
            for values in made[at : at + 20]:
                together.outcome(make_plan(variations.strategy(variations.document(values)), timeline), CASH)
            seconds[which] += time.process_time() - began
    return seconds[1] / seconds[0]


def general() -> list[list[str]]:
    """The thousand with a rule more, each of a kind that has no numbers: an indicator, a check, and adjustments that roll a short
    whose delta has come to 0.30 to 0.16 (common practice), about one to two of its trades."""
    timeline = demo_history()
    below = {"is": "above", "right": -1_000_000}
    document = example("tide-condor")
    legs = document["entries"][0]["legs"]

    def tested(leg: str, comparison: str, delta: float) -> dict[str, Any]:
        greek = {"measure": "leg_greek", "leg": leg, "greek": "delta"}
        return {"rule": "roll_to_delta", "left": greek, "is": comparison, "right": delta, "what": leg, "delta": 0.16}

    rules: dict[str, tuple[str, list[dict[str, Any]]]] = {
        "an indicator": ("conditions", [{"rule": "condition", "left": {"measure": "rsi", "sessions": 14}, **below}]),
        "a check on the structure": ("checks", [{"rule": "condition", "left": {"measure": "capital_a_lot"}, **below}]),
        "adjustments": ("adjust", [tested(legs[0]["id"], "below", -0.3), tested(legs[2]["id"], "above", 0.3)]),
    }  # fmt: skip
    rows = []
    for name, (part, more) in rules.items():
        document = normalise(example("tide-condor"))
        document["entries"][0][part] += more
        document, begin = normalise(document), int(timeline.first[-253])
        rows += swept(f"the same with {name}", document, dials(), begin)
        rows.append([f"the same with {name}: times the plain thousand, in turns", f"{in_turns(document, begin):.1f} ×"])
    return rows


def slices() -> float:
    """5 000 trades in eleven columns, three choices."""
    rng = np.random.default_rng(1)
    n = 5_000
    columns: list[Column] = [
        Names(f"name {k}", "", rng.integers(0, 5, n).astype(str).tolist(), {str(v): str(v) for v in range(5)})
        for k in range(5)
    ]
    columns += [Numbers(f"number {k}", "", rng.normal(50, 20, n).round(), "", 1.0) for k in range(6)]
    pnl = rng.normal(20, 300, n)
    choices = {"name 0": ["1", "2"], "number 1": ["0"], "number 5": ["2", "3"]}
    return median_seconds(lambda: sliced(columns, pnl, choices), 9)


def neighbours() -> float:
    """2 000 variants of four dials, seven figures."""
    made = cells([Dial((str(k),), tuple(range(size))) for k, size in enumerate((10, 10, 5, 4))])
    values = np.random.default_rng(2).normal(size=(len(made), 7))
    return median_seconds(lambda: neighbourhoods(made, values, [True] * 4))


def crowd() -> list[list[str]]:
    """Condors every ten minutes, held for weeks: blocks, and one snapshot after another over the first of the sessions."""
    timeline = demo_history()
    document = normalise(example("tide-condor"))
    entry = document["entries"][0]
    entry["when"] = [
        {
            "rule": "every_minutes",
            "weekdays": ["mon", "tue", "wed", "thu", "fri"],
            "minutes": 10,
            "from": "09:10",
            "until": "17:00",
        }
    ]
    entry["conditions"], entry["checks"] = [], []
    document["limits"] = [{"rule": "capital", "entries": "allow", "below": "report"}]
    plan = make_plan(parse(normalise(document)), timeline)
    rows, cash = [], 200 * CASH
    for sessions, runs in ((4, (run_steps, run_blocks)), (40, (run_blocks,))):
        begin = int(timeline.first[-1 - 40])
        end = int(timeline.first[-1 - 40 + sessions])
        for how in runs:
            began = time.perf_counter()
            history = how(plan, timeline, begin, end, cash)
            taken_ = time.perf_counter() - began
            open_now = len(history.state.trades)
            words = "in blocks" if how is run_blocks else "one snapshot after another"
            rows.append(
                [
                    f"{sessions} sessions with a condor every ten minutes, {open_now} open at their end: {words}",
                    f"{1000 * taken_:.0f}",
                ]
            )
    return rows


def run() -> None:
    rows = [*variants(), *thousand(), *general(), *crowd()]
    rows.append(["slices of 5 000 trades, eleven columns", f"{1000 * slices():.0f}"])
    rows.append(["neighbours of 2 000 variants of four dials", f"{1000 * neighbours():.0f}"])
    table("What a thousand questions cost, one core", ["what", "milliseconds"], rows)
