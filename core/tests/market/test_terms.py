"""Terms by date, settlement at the open, dividends ahead of an option."""

from __future__ import annotations

import dataclasses
import datetime as dt
import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.settlement import settlement_parts
from strell_core.formats import cubes
from strell_core.formats.intake.sessions import off_step
from strell_core.market.calendars import marrowick
from strell_core.market.dividends import Dividend, paid_at, to_come
from strell_core.market.instruments import ContractKey, TermsPeriod, finest_step, step_at
from strell_core.market.prices import points_to_parts
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30, Scenario, Settings

CALENDAR = marrowick()
SCENARIO = Scenario(Settings(sessions=6, intraday=6))


def history(**terms: object) -> Timeline:
    chains = [SCENARIO.chain(i) for i in range(6)]
    return cubes.in_memory(chains, dataclasses.replace(MK30, **terms), CALENDAR, "terms")  # type: ignore[arg-type]


class PeriodsTest(unittest.TestCase):
    def test_terms_of_a_day(self) -> None:
        first = TermsPeriod(dt.date(2020, 1, 1), 100, True, "close", 0.01, "EUR", "MARROWICK")
        later = TermsPeriod(dt.date(2026, 3, 2), 10, False, "open", 0.03, "EUR", "MARROWICK")
        terms = dataclasses.replace(MK30, periods=(first, later))
        self.assertEqual(
            (terms.on(dt.date(2026, 3, 1)).multiplier, terms.on(dt.date(2026, 3, 2)).multiplier), (100, 10)
        )
        self.assertEqual(terms.on(dt.date(2026, 3, 1)).ticks, ())
        self.assertTrue(terms.on(dt.date(2019, 1, 1)).american, "before the first it is the first")
        self.assertEqual(MK30.on(dt.date(2026, 3, 1)), MK30)

    def test_a_view_has_the_terms_of_its_session(self) -> None:
        date = SCENARIO.dates[3]
        periods = (
            TermsPeriod(SCENARIO.dates[0], 50, False, "close", 0.021, "EUR", "MARROWICK"),
            TermsPeriod(date, 5, False, "close", 0.03, "EUR", "MARROWICK"),
        )
        timeline = history(periods=periods)
        views = [timeline.view(int(timeline.first[session])) for session in (2, 3)]
        self.assertEqual([view.underlying.multiplier for view in views], [50, 5])
        self.assertEqual([view.underlying.rate for view in views], [0.021, 0.03])


class StepsTest(unittest.TestCase):
    """0.05 below 3 and 0.10 from there, as many exchanges have it (common practice)."""

    ticks = ((Decimal(0), Decimal("0.05")), (Decimal(3), Decimal("0.10")))

    def test_the_step_at_a_price(self) -> None:
        for price, step in (("0", "0.05"), ("2.95", "0.05"), ("3", "0.10"), ("-7.2", "0.10")):
            self.assertEqual(step_at(self.ticks, Decimal(price), Decimal("0.01")), Decimal(step))
        self.assertEqual(step_at((), Decimal(7), Decimal("0.01")), Decimal("0.01"))
        self.assertEqual(finest_step(self.ticks, Decimal("0.01")), Decimal("0.05"))

    def test_prices_between_two_steps_are_counted(self) -> None:
        terms = dataclasses.replace(MK30, quantum=Decimal("0.01"), ticks=self.ticks)
        quanta = np.array([0, 5, 7, 295, 300, 305, 310, 312.5, -1])
        self.assertEqual(off_step(quanta, terms), 2, "0.07 and 3.05; what is off the quantum is set aside elsewhere")
        self.assertEqual(off_step(quanta, MK30), 0, "no steps, nothing to be off of")


class SettlementAtTheOpenTest(unittest.TestCase):
    def test_it_is_the_sessions_first_price_from_its_open_on(self) -> None:
        at_open, at_close = history(settles="open"), history()
        expiration = next(date for date in SCENARIO.dates[1:] if date in at_open.cubes)
        session = SCENARIO.dates.index(expiration)
        cube = at_open.cubes[expiration]
        self.assertEqual(cube.settlement_at, CALENDAR.session(expiration).open)
        self.assertEqual(at_close.cubes[expiration].settlement_at, CALENDAR.session(expiration).close)
        contract = ContractKey(expiration, "call", int(cube.strikes[0]), "MK30")
        first = int(at_open.spot[at_open.first[session]])
        wanted = points_to_parts(Decimal(first) / 100 - Decimal(contract.strike), MK30.quantum)
        self.assertGreater(wanted, 0)
        self.assertEqual(settlement_parts(at_open, contract, cube.settlement_at), wanted)
        self.assertIsNone(
            settlement_parts(at_close, contract, cube.settlement_at), "at the close it is not settled yet"
        )

    def test_only_the_period_in_force_counts(self) -> None:
        date = SCENARIO.dates[3]
        periods = (
            TermsPeriod(SCENARIO.dates[0], 50, False, "close", 0.02, "EUR", "MARROWICK"),
            TermsPeriod(date, 50, False, "open", 0.02, "EUR", "MARROWICK"),
        )
        timeline = history(periods=periods)
        opens = [CALENDAR.session(d).open == timeline.cubes[d].settlement_at for d in sorted(timeline.cubes)]
        self.assertEqual(opens, [d >= date for d in sorted(timeline.cubes)])
        self.assertEqual(int(timeline.settlement[4]), int(timeline.spot[timeline.first[4]]))
        self.assertEqual(int(timeline.settlement[1]), int(SCENARIO.chain(1).settlement))


class DividendsTest(unittest.TestCase):
    def test_those_between_now_and_the_settlement(self) -> None:
        now = CALENDAR.session(dt.date(2026, 3, 2)).close
        settles = CALENDAR.session(dt.date(2026, 3, 20)).close
        paid = [Dividend(dt.date(2026, 3, d), float(d)) for d in (20, 2, 3, 23)]
        seconds, points = to_come(paid, CALENDAR, now, settles)
        self.assertEqual(points.tolist(), [3.0, 20.0])
        self.assertTrue((np.diff(seconds) > 0).all())

    def test_a_day_without_a_session_loses_it_at_the_close_before(self) -> None:
        self.assertEqual(
            paid_at(Dividend(dt.date(2026, 3, 7), 1.0), CALENDAR), CALENDAR.session(dt.date(2026, 3, 6)).close
        )
