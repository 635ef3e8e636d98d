"""A history and what comes after it, read as one: every number is where it would be in one timeline."""

import dataclasses
import datetime as dt
from unittest import TestCase

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from strell_core.formats import cubes
from strell_core.market.chains import SessionChain
from strell_core.market.continued import NOTHING, JoinedGrid, _Part, continued
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30
from tests.demo import SHORT, chains, marrowick
from tests.engine.test_day_by_day import begun

SESSIONS = 24


def timeline(of: list[SessionChain], unfinished: bool = False) -> Timeline:
    return cubes.in_memory(of, MK30, marrowick(), "x", unfinished=unfinished)


class ContinuedTest(TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.chains = list(chains(SHORT))[-30:][:SESSIONS]

    def check(self, made: Timeline, whole: Timeline) -> None:
        for name in ("first", "times", "spot", "settlement", "session_of", "minute", "is_last", "is_single"):
            np.testing.assert_array_equal(getattr(made, name), getattr(whole, name), name)
        self.assertEqual(made.dates, whole.dates)
        for name in ("close", "atm_iv", "ranges", "traded"):
            np.testing.assert_array_equal(getattr(made.daily, name), getattr(whole.daily, name), name)
        self.assertEqual((made.daily.dates, made.daily.earlier), (whole.daily.dates, whole.daily.earlier))
        self.assertEqual(list(made.cubes), list(whole.cubes))
        for date, cube in whole.cubes.items():
            mine = made.cubes[date]
            self.assertEqual((mine.start, mine.end, mine.first_session), (cube.start, cube.end, cube.first_session))
            np.testing.assert_array_equal(mine.strikes, cube.strikes)
            for name in ("forward", "open_interest"):
                np.testing.assert_array_equal(getattr(mine, name), getattr(cube, name), name)
            for name in NOTHING:
                np.testing.assert_array_equal(getattr(mine, name)[:, :], getattr(cube, name), f"{date} {name}")
        for minute in (600, 945, 1000):
            end = len(whole.times)
            np.testing.assert_array_equal(made.reached(minute, 0, end), whole.reached(minute, 0, end))

    def test_it_is_the_timeline_of_all_sessions(self) -> None:
        whole = timeline(self.chains)
        for cut in (1, 10, SESSIONS - 1):
            with self.subTest(cut):
                self.check(continued(timeline(self.chains[:cut]), timeline(self.chains[cut:])), whole)

    def test_a_session_that_has_begun(self) -> None:
        past, today = self.chains[:-1], self.chains[-1]
        history, sealed = timeline(past[:-2]), timeline(past[-2:])
        base = continued(history, sealed)
        for snapshots in (1, 2, 40):
            with self.subTest(snapshots):
                now = begun(today, snapshots)
                self.check(continued(base, timeline([now], True)), timeline([*past, now], True))

    def test_an_expiration_that_was_gone_and_strikes_that_came_and_went(self) -> None:
        date = self.chains[20].expirations[5]
        short = [self.chains[20], _without(self.chains[21], date), self.chains[22]]
        self.assertNotIn(date, short[1].expirations)
        made = continued(timeline(short[:2]), timeline(short[2:]))
        cube = made.cubes[date]
        gap = slice(int(made.first[1]) - cube.start, int(made.first[2]) - cube.start)
        self.assertTrue((cube.ask[:, gap] == -1).all())
        self.check(made, timeline(short))

    def test_histories_that_overlap_are_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "does not come after"):
            continued(timeline(self.chains[:5]), timeline(self.chains[4:6]))

    def test_single_snapshots_are_computed_once_for_both(self) -> None:
        past = timeline(self.chains[:3])
        made = continued(past, timeline(self.chains[3:4]))
        made.of_snapshots["asked"] = 1
        self.assertEqual(past.of_snapshots["asked"], 1)


def _without(chain: SessionChain, gone: dt.date) -> SessionChain:
    """The session without an expiration, and the others without their lowest strike."""
    lowest = {date: min(c.strike for c in chain.contracts if c.expiration == date) for date in chain.expirations}
    keep = [
        n for n, c in enumerate(chain.contracts) if c.expiration != gone and c.strike != lowest[c.expiration]
    ]  # fmt: skip
    ranks = [n for n, date in enumerate(chain.expirations) if date != gone]
    return dataclasses.replace(
        chain, expirations=tuple(date for date in chain.expirations if date != gone), contracts=tuple(chain.contracts[n] for n in keep), forward=chain.forward[ranks], bid=chain.bid[keep],
        ask=chain.ask[keep], iv=chain.iv[keep], open_interest=chain.open_interest[keep],
        volume=chain.volume[keep],
    )  # fmt: skip


class JoinedGridTest(TestCase):
    @given(st.data())
    def test_every_way_to_ask_gives_what_one_array_gives(self, data: st.DataObject) -> None:
        rng = np.random.default_rng(data.draw(st.integers(0, 999)))
        rows, whole, parts, at = 5, [], [], 0
        for _ in range(data.draw(st.integers(1, 3))):
            n, gap = int(rng.integers(1, 4)), int(rng.integers(0, 2))
            have = np.flatnonzero(rng.random(rows) < 0.7)
            grid = rng.integers(0, 99, (max(1, len(have)), n))
            placed = np.full((rows, n), -7)
            placed[have] = grid[: len(have)]
            places = np.full(rows, -1)
            places[have] = np.arange(len(have))
            parts.append(_Part(grid, at + gap, places))
            whole += [np.full((rows, gap), -7), placed]
            at += gap + n
        wanted = np.concatenate(whole, axis=1)
        made = JoinedGrid(parts, wanted.shape, -7, wanted.dtype)
        row = data.draw(
            st.one_of(
                st.integers(0, rows - 1),
                st.slices(rows),
                st.lists(st.integers(0, rows - 1)).map(lambda x: np.array(x, int)),
            )
        )
        column = data.draw(
            st.one_of(
                st.integers(0, at - 1), st.tuples(st.integers(0, at), st.integers(0, at)).map(lambda x: slice(*x))
            )
        )
        np.testing.assert_array_equal(made[row, column], wanted[row, column])
        with self.assertRaises(IndexError):
            made[row, at]
