"""Messages say what they mean, there and back, and FIX's own dictionary finds nothing wrong with them.

Source: the FIX 4.4 data dictionary (FIX44.xml) that ships with the QuickFIX reference engine.
"""

from __future__ import annotations

import unittest
from decimal import Decimal

import quickfix as fix
from hypothesis import given
from hypothesis import strategies as st

from fix44 import messages as wire
from fix44.session import DICTIONARY

QUANTUM = Decimal("0.05")
CALL, PUT = "MK30/2026-11-27/call/3150", "MK30/2026-11-30/put/3050"
legs = st.lists(
    st.tuples(st.sampled_from([CALL, PUT, "MK30/2026-12-18/call/3300"]), st.sampled_from([-3, -2, -1, 1, 2, 3])),
    min_size=1, max_size=3, unique_by=lambda leg: leg[0],
)  # fmt: skip


class MessagesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.dictionary = fix.DataDictionary(str(DICTIONARY))

    def over_the_line(self, message: fix.Message) -> fix.Message:
        """The message as the other side reads it; raises what the dictionary finds wrong."""
        header = message.getHeader()
        for tag, value in ((34, 7), (49, "STRELL"), (52, wire.stamp()), (56, "PRACTICE")):
            wire.put(header, tag, value)
        text = message.toString()
        read = fix.Message(text, self.dictionary, True)
        self.dictionary.validate(read)
        return read

    @given(
        legs,
        st.integers(1, 900),
        st.one_of(st.none(), st.integers(-4000, 4000)),
        st.sampled_from(["day", "gtc"]),
        st.booleans(),
    )
    def test_orders_come_back_as_they_went(self, legs, lots, limit, until, replaces) -> None:
        kind = "market" if limit is None else "limit"
        order = wire.Wire("12-3", "ST7", "MK30", tuple(legs), lots, kind, limit, until, "12-1" if replaces else "")
        read = self.over_the_line(wire.order_message(order, QUANTUM))
        self.assertEqual(wire.read_order(read, QUANTUM), order)
        expected = {(True, False): "D", (True, True): "G", (False, False): "AB", (False, True): "AC"}
        self.assertEqual(wire.kind_of(read), expected[order.single, replaces])

    def test_one_contract_sold_is_a_sell_with_a_positive_price(self) -> None:
        order = wire.Wire("1-1", "ST7", "MK30", ((CALL, -1),), 2, "limit", -120, "day")
        read = self.over_the_line(wire.order_message(order, QUANTUM))
        self.assertEqual((wire.get(read, 54), wire.get(read, 44), wire.get(read, 38)), ("2", "6", "2"))
        self.assertEqual(
            (wire.get(read, 461), wire.get(read, 541), wire.get(read, 202)), ("OCEICS", "20261127", "3150")
        )

    def test_a_combination_carries_its_net_price_negative_when_taken_in(self) -> None:
        order = wire.Wire("1-1", "ST7", "MK30", ((CALL, -1), (PUT, 2)), 2, "limit", -117, "day")
        read = self.over_the_line(wire.order_message(order, QUANTUM))
        self.assertEqual((wire.get(read, 54), wire.get(read, 44), wire.get(read, 167)), ("1", "-5.85", "MLEG"))

    def test_the_other_requests_are_valid(self) -> None:
        order = wire.Wire("1-2", "ST7", "MK30", ((CALL, -1), (PUT, 1)), 2, "limit", 5, "day", "1-1")
        for message in (wire.cancel_message(order), wire.status_message(order), wire.positions_request("q1", "ST7")):
            self.over_the_line(message)

    def report(self, **changes) -> dict:
        return {
            "order_id": "PB1", "cl_ord_id": "1-1", "exec_id": "e1", "exec_type": "0", "status": "0", "account": "ST7",
            "symbol": "MK30", "filled": 0, "left": 2, "market_at": 1_795_100_000, "limit": -117, **changes,
        }  # fmt: skip

    def test_reports_come_back_as_they_went(self) -> None:
        fill = self.report(
            exec_type="F", status="1", filled=1, left=1, lots=1, legs=[[CALL, -1], [PUT, 2]], prices=[412_000, 77_000]
        )
        read = wire.read_report(self.over_the_line(wire.report_message(fill, QUANTUM)), QUANTUM)
        for key in (
            "cl_ord_id",
            "exec_id",
            "exec_type",
            "filled",
            "left",
            "lots",
            "legs",
            "prices",
            "market_at",
            "limit",
        ):
            self.assertEqual(read[key], fill[key], key)
        for changes in ({}, {"exec_type": "4", "status": "4", "original": "1-1"}, {"exec_type": "8", "status": "8", "text": "no"},
                        {"exec_type": "I", "status": "8", "unknown_order": True}, {"exec_type": "C", "status": "C", "limit": None}):  # fmt: skip
            sent = self.report(**changes)
            read = wire.read_report(self.over_the_line(wire.report_message(sent, QUANTUM)), QUANTUM)
            self.assertEqual(
                (read["exec_type"], read["unknown_order"]), (sent["exec_type"], bool(sent.get("unknown_order")))
            )

    def test_positions_come_back_as_they_went(self) -> None:
        for contracts in (5, -3):
            message = wire.position_message("q1", 1, "ST7", "MK30", PUT, contracts)
            self.assertEqual(wire.read_position(self.over_the_line(message)), ("q1", PUT, contracts))
        self.over_the_line(wire.positions_ack("q1", "ST7", 2))
        self.over_the_line(wire.cancel_reject_message("1-2", "1-1", "", "too late", True))

    def test_what_makes_no_sense_is_not_read_as_something_else(self) -> None:
        order = wire.Wire("1-1", "ST7", "MK30", ((CALL, -1), (PUT, 1)), 2, "limit", 5, "day")
        message = wire.order_message(order, QUANTUM)
        wire.put(message, 44, "0.33")
        with self.assertRaisesRegex(ValueError, "off the tick"):
            wire.read_order(message, QUANTUM)
        wire.put(message, 44, "0.35")
        for lots in ("0", "1.5", "-2"):
            wire.put(message, 38, lots)
            with self.assertRaisesRegex(ValueError, "whole number"):
                wire.read_order(message, QUANTUM)
        wire.put(message, 40, "P")
        with self.assertRaises((KeyError, ValueError)):
            wire.read_order(message, QUANTUM)
