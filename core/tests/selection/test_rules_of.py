"""Legs clicked together become rules that pick them again."""

from __future__ import annotations

import datetime as dt
import unittest

import numpy as np

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.market import Market
from strell_core.market.view import ChainView
from strell_core.measures.frames import Frame
from strell_core.selection.rules_of import rules_of
from strell_core.selection.select import select
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.variations import document
from tests.selection.test_select import chain


def at(index: int) -> tuple[ChainView, dt.date]:
    return short_history().view(index), short_history().dates[int(short_history().session_of[index])]


class RulesOfTest(unittest.TestCase):
    def test_structures_of_the_demo_are_picked_again_or_a_note_says_what_is(self) -> None:
        """Random structures over up to three expirations, near and far from the money, at random instants."""
        rng = np.random.default_rng(5)
        exact = 0
        for _ in range(60):
            view, today = at(int(rng.integers(len(short_history().times))))
            legs: dict[ContractKey, int] = {}
            for _ in range(int(rng.integers(1, 6))):
                right = ("call", "put")[int(rng.integers(2))]
                expiration = view.expirations[int(rng.integers(min(6, len(view.expirations))))]
                side = view.slice(expiration, right)
                usable = side.strikes[side.valid & (side.iv > 0)]
                if len(usable) == 0:
                    continue
                contract = ContractKey(expiration, right, strike_of(thousandths(float(rng.choice(usable)))), "MK30")
                legs[contract] = int(rng.choice([-4, -2, 2, 4]))
            if not legs:
                continue
            made = rules_of(view, today, list(legs.items()))
            picked = select(
                parse(document("made", made.legs, [])).entries[0].legs,
                Frame(Market(view.timeline), view.index, view.index + 1, "MK30"),
                view,
            )
            self.assertIsNone(picked.failed)
            found = {leg.contract: leg.contracts * made.lots for leg in picked.legs}
            if not made.notes:
                self.assertEqual(found, legs)
            missed = [contract for contract in legs if contract not in found]
            self.assertGreaterEqual(len(made.notes), len(missed), "nothing is picked otherwise without a word")
            exact += not made.notes
        self.assertGreater(exact, 50)

    def test_lots_are_what_the_quantities_share(self) -> None:
        view, today = at(len(short_history().times) - 40)
        side = view.slice(view.expirations[3], "call")
        strikes = [strike_of(thousandths(k)) for k in side.strikes[side.valid & (side.delta > 1000)][-6:].tolist()]
        legs = [
            (ContractKey(view.expirations[3], "call", k, "MK30"), n) for k, n in zip(strikes, (3, -6), strict=False)
        ]
        made = rules_of(view, today, legs)
        self.assertEqual((made.lots, [leg["ratio"] for leg in made.legs]), (3, [1, 2]))
        self.assertEqual([leg["side"] for leg in made.legs], ["buy", "sell"])
        with self.assertRaises(ValueError):
            rules_of(view, today, [(legs[0][0], 1), (legs[1][0], -21)])

    def test_the_nearest_expiration_leads_whatever_the_order(self) -> None:
        view, today = at(len(short_history().times) - 40)
        far, near = view.expirations[5], view.expirations[1]
        strike = strike_of(
            thousandths(float(view.slice(near, "call").strikes[len(view.slice(near, "call").strikes) // 2]))
        )
        made = rules_of(
            view,
            today,
            [(ContractKey(far, "call", strike, "MK30"), 1), (ContractKey(near, "call", strike, "MK30"), -1)],
        )
        self.assertEqual([leg["expiry"]["pick"] for leg in made.legs], ["nearest_days", "days_after"])
        self.assertEqual(made.legs[1]["expiry"]["days"], (far - near).days)

    def test_where_no_pick_finds_it_the_note_names_what_is_found(self) -> None:
        """Two strikes without deltas, the same share away from spot to a tenth of a percent, no forward."""
        timeline = chain({"2026-10-16/put/3040": "6.00/6.20", "2026-10-16/put/3041": "6.05/6.25"})
        view = timeline.view(0)
        made = rules_of(view, dt.date(2026, 10, 5), [(ContractKey(dt.date(2026, 10, 16), "put", 3041, "MK30"), -1)])
        self.assertEqual(made.legs[0]["strike"], {"pick": "percent_from_spot", "percent": 1.9})
        self.assertEqual(made.notes, [])
        other = rules_of(view, dt.date(2026, 10, 5), [(ContractKey(dt.date(2026, 10, 16), "put", 3040, "MK30"), -1)])
        self.assertEqual(len(other.notes), 1)
        self.assertIn("3041", other.notes[0])
