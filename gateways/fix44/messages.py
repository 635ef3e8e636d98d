"""Orders and reports as FIX 4.4 messages and back. Tags and codes: FIX 4.4 specification with errata (2003).

One leg a lot travels as NewOrderSingle (D), everything else as NewOrderMultileg (AB) whose Price (44) is
the net price of a lot, negative when it is taken in. Quanta become points here and nowhere else.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import quickfix as fix

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.prices import PARTS

BUY, SELL = "1", "2"
CALL, PUT = "OCEICS", "OPEICS"
"""CFICode (461, ISO 10962): option, call or put, European, on an index, cash, standardised."""
NO_LEGS, LEG_SYMBOL = 555, 600
NEW_SINGLE, NEW_MULTILEG, CANCEL, REPLACE_SINGLE, REPLACE_MULTILEG = "D", "AB", "F", "G", "AC"
STATUS, REPORT, CANCEL_REJECT = "H", "8", "9"
ASK_POSITIONS, POSITIONS_ACK, POSITION = "AN", "AO", "AP"


@dataclass(frozen=True)
class Wire:
    """An order as it crosses the line. ``limit`` in quanta a lot, signed."""

    cl_ord_id: str
    account: str
    symbol: str
    legs: tuple[tuple[str, int], ...]
    lots: int
    type: str
    limit: int | None
    time_in_force: str
    original: str = ""

    @property
    def single(self) -> bool:
        return len(self.legs) == 1 and abs(self.legs[0][1]) == 1

    @property
    def side(self) -> str:
        return SELL if self.single and self.legs[0][1] < 0 else BUY


def put(message: fix.FieldMap, tag: int, value: object) -> None:
    message.setField(fix.StringField(tag, str(value)))


def get(message: fix.FieldMap, tag: int, default: str | None = None) -> str:
    """A field's text; raises ``KeyError`` when it is missing and has no default."""
    if message.isSetField(tag):
        return str(message.getField(tag))
    if default is None:
        raise KeyError(tag)
    return default


def kind_of(message: fix.Message) -> str:
    return get(message.getHeader(), 35)


def message_of(kind: str) -> fix.Message:
    message = fix.Message()
    put(message.getHeader(), 8, "FIX.4.4")
    put(message.getHeader(), 35, kind)
    return message


def stamp(at: float | None = None) -> str:
    """UTCTimestamp."""
    when = dt.datetime.now(dt.UTC) if at is None else dt.datetime.fromtimestamp(at, dt.UTC)
    return when.strftime("%Y%m%d-%H:%M:%S.%f")[:-3]


def instant(text: str) -> int:
    """Epoch second of a UTCTimestamp."""
    return int(
        dt.datetime.strptime(text.split(".", maxsplit=1)[0], "%Y%m%d-%H:%M:%S").replace(tzinfo=dt.UTC).timestamp()
    )


def points(quanta: int, quantum: Decimal) -> str:
    return format((Decimal(quanta) * quantum).normalize(), "f")


def quanta(text: str, quantum: Decimal) -> int:
    """Raises ``ValueError`` for a price off the tick."""
    steps = Decimal(text) / quantum
    if steps != int(steps):
        raise ValueError(f"price {text} lies off the tick of {quantum.normalize()}")
    return int(steps)


# -- instruments
def _put_instrument(message: fix.Message, wire: Wire) -> None:
    put(message, 55, wire.symbol)
    if not wire.single:
        put(message, 167, "MLEG")
        return
    contract = ContractKey.parse(wire.legs[0][0])
    put(message, 167, "OPT")
    put(message, 461, CALL if contract.right == "call" else PUT)
    put(message, 541, contract.expiration.strftime("%Y%m%d"))
    put(message, 202, contract.strike)


def put_legs(
    message: fix.Message, symbol: str, legs: Iterable[tuple[str, int]], prices: list[str] | None = None
) -> None:
    for number, (code, ratio) in enumerate(legs):
        contract = ContractKey.parse(code)
        group = fix.Group(NO_LEGS, LEG_SYMBOL)
        put(group, 600, symbol)
        put(group, 608, CALL if contract.right == "call" else PUT)
        put(group, 609, "OPT")
        put(group, 611, contract.expiration.strftime("%Y%m%d"))
        put(group, 612, contract.strike)
        put(group, 623, abs(ratio))
        put(group, 624, BUY if ratio > 0 else SELL)
        if prices is not None:
            put(group, 637, prices[number])
        message.addGroup(group)


def contract_of(symbol: str, cfi: str, maturity: str, strike: str) -> str:
    date = dt.datetime.strptime(maturity, "%Y%m%d").date()
    right = {"OC": "call", "OP": "put"}[cfi[:2]]
    return ContractKey(date, right, strike_of(thousandths(float(Decimal(strike)))), symbol).code


def legs_of(message: fix.Message) -> tuple[list[tuple[str, int]], list[str]]:
    """Legs with their ratios, and LegLastPx (637) of each where it is given."""
    if kind_of(message) in (NEW_SINGLE, REPLACE_SINGLE):
        code = contract_of(get(message, 55), get(message, 461), get(message, 541), get(message, 202))
        return [(code, 1 if get(message, 54) == BUY else -1)], []
    legs, prices = [], []
    for number in range(1, int(get(message, NO_LEGS, "0")) + 1):
        group = fix.Group(NO_LEGS, LEG_SYMBOL)
        message.getGroup(number, group)
        ratio = int(Decimal(get(group, 623))) * (1 if get(group, 624) == BUY else -1)
        legs.append((contract_of(get(group, 600), get(group, 608), get(group, 611), get(group, 612)), ratio))
        if group.isSetField(637):
            prices.append(get(group, 637))
    return legs, prices


# -- orders, from us to the broker
def order_message(wire: Wire, quantum: Decimal) -> fix.Message:
    """A new order, or the replacement of ``wire.original``."""
    if wire.original:
        kind = REPLACE_SINGLE if wire.single else REPLACE_MULTILEG
    else:
        kind = NEW_SINGLE if wire.single else NEW_MULTILEG
    message = message_of(kind)
    put(message, 11, wire.cl_ord_id)
    if wire.original:
        put(message, 41, wire.original)
    put(message, 1, wire.account)
    put(message, 21, "1")
    put(message, 54, wire.side)
    _put_instrument(message, wire)
    if not wire.single:
        put_legs(message, wire.symbol, wire.legs)
    put(message, 60, stamp())
    put(message, 38, wire.lots)
    put(message, 40, {"market": "1", "limit": "2"}[wire.type])
    if wire.limit is not None:
        put(message, 44, points(-wire.limit if wire.side == SELL else wire.limit, quantum))
    put(message, 59, {"day": "0", "gtc": "1"}[wire.time_in_force])
    return message


def read_order(message: fix.Message, quantum: Decimal) -> Wire:
    """The order a message carries; raises ``KeyError`` or ``ValueError`` when it makes no sense."""
    legs, _ = legs_of(message)
    limit = quanta(get(message, 44), quantum) if message.isSetField(44) else None
    if limit is not None and get(message, 54) == SELL:
        limit = -limit
    lots = Decimal(get(message, 38))
    if lots != int(lots) or lots < 1:
        raise ValueError(f"order quantity {lots} is not a whole number of lots")
    return Wire(
        get(message, 11), get(message, 1), get(message, 55), tuple(legs), int(lots), {"1": "market", "2": "limit"}[get(message, 40)],
        limit, {"0": "day", "1": "gtc"}[get(message, 59, "0")], get(message, 41, ""),
    )  # fmt: skip


def cancel_message(wire: Wire) -> fix.Message:
    message = message_of(CANCEL)
    put(message, 11, wire.cl_ord_id)
    put(message, 41, wire.original)
    put(message, 1, wire.account)
    put(message, 54, wire.side)
    _put_instrument(message, wire)
    put(message, 60, stamp())
    put(message, 38, wire.lots)
    return message


def status_message(wire: Wire) -> fix.Message:
    message = message_of(STATUS)
    put(message, 11, wire.cl_ord_id)
    put(message, 1, wire.account)
    put(message, 54, wire.side)
    _put_instrument(message, wire)
    return message


def positions_request(request_id: str, account: str) -> fix.Message:
    message = message_of(ASK_POSITIONS)
    put(message, 710, request_id)
    put(message, 724, "0")
    _put_party(message)
    put(message, 1, account)
    put(message, 581, "1")
    put(message, 715, dt.datetime.now(dt.UTC).strftime("%Y%m%d"))
    put(message, 60, stamp())
    return message


def _put_party(message: fix.Message) -> None:
    party = fix.Group(453, 448)
    put(party, 448, "STRELL")
    put(party, 447, "D")
    put(party, 452, "3")
    message.addGroup(party)


# -- reports, from the broker to us
def report_message(report: dict[str, Any], quantum: Decimal) -> fix.Message:
    """An ExecutionReport (8) from the broker's book."""
    message = message_of(REPORT)
    put(message, 37, report["order_id"])
    put(message, 11, report["cl_ord_id"])
    if report.get("original"):
        put(message, 41, report["original"])
    put(message, 17, report["exec_id"])
    put(message, 150, report["exec_type"])
    put(message, 39, report["status"])
    put(message, 1, report["account"])
    put(message, 55, report["symbol"])
    put(message, 54, BUY)
    put(message, 151, report["left"])
    put(message, 14, report["filled"])
    put(message, 6, "0")
    put(message, 60, stamp(report["market_at"]))
    if report.get("limit") is not None:
        put(message, 44, points(report["limit"], quantum))
    if report.get("text"):
        put(message, 58, report["text"])
    if report["exec_type"] == "8" or report.get("unknown_order"):
        put(message, 103, "5" if report.get("unknown_order") else "6" if report.get("duplicate") else "99")
    if report["exec_type"] == "F":
        put(message, 442, "3")
        put(message, 32, report["lots"])
        legs = [(code, ratio) for code, ratio in report["legs"]]
        net = sum(ratio * parts for (_, ratio), parts in zip(legs, report["prices"], strict=True))
        put(message, 31, format((Decimal(net) * quantum / PARTS).normalize(), "f"))
        prices = [format((Decimal(parts) * quantum / PARTS).normalize(), "f") for parts in report["prices"]]
        put_legs(message, report["symbol"], legs, prices)
    return message


def read_report(message: fix.Message, quantum: Decimal) -> dict[str, Any]:
    """What an ExecutionReport says, as plain data; prices in parts, limits in quanta."""
    kind = get(message, 150)
    report: dict[str, Any] = {
        "cl_ord_id": get(message, 11, ""), "exec_id": get(message, 17), "exec_type": kind, "status": get(message, 39),
        "account": get(message, 1, ""), "order_id": get(message, 37), "filled": int(Decimal(get(message, 14))),
        "left": int(Decimal(get(message, 151))), "text": get(message, 58, ""), "market_at": instant(get(message, 60)),
        "limit": quanta(get(message, 44), quantum) if message.isSetField(44) else None,
        "unknown_order": get(message, 103, "") == "5", "duplicate": get(message, 103, "") == "6",
    }  # fmt: skip
    if kind == "F":
        legs, prices = legs_of(message)
        report["lots"] = int(Decimal(get(message, 32)))
        report["legs"] = [[code, ratio] for code, ratio in legs]
        report["prices"] = [int(Decimal(text) / quantum * PARTS) for text in prices]
    return report


def cancel_reject_message(cl_ord_id: str, original: str, order_id: str, text: str, replace: bool) -> fix.Message:
    message = message_of(CANCEL_REJECT)
    put(message, 37, order_id or "NONE")
    put(message, 11, cl_ord_id)
    put(message, 41, original)
    put(message, 39, "8")
    put(message, 434, "2" if replace else "1")
    put(message, 102, "99")
    put(message, 58, text)
    return message


def positions_ack(request_id: str, account: str, total: int) -> fix.Message:
    message = message_of(POSITIONS_ACK)
    put(message, 721, f"{request_id}-0")
    put(message, 710, request_id)
    put(message, 727, total)
    put(message, 728, "0" if total else "2")
    put(message, 729, "0")
    _put_party(message)
    put(message, 1, account)
    put(message, 581, "1")
    return message


def position_message(request_id: str, number: int, account: str, symbol: str, code: str, contracts: int) -> fix.Message:
    contract = ContractKey.parse(code)
    message = message_of(POSITION)
    put(message, 721, f"{request_id}-{number}")
    put(message, 710, request_id)
    put(message, 728, "0")
    put(message, 715, dt.datetime.now(dt.UTC).strftime("%Y%m%d"))
    _put_party(message)
    put(message, 1, account)
    put(message, 581, "1")
    put(message, 55, symbol)
    put(message, 167, "OPT")
    put(message, 461, CALL if contract.right == "call" else PUT)
    put(message, 541, contract.expiration.strftime("%Y%m%d"))
    put(message, 202, contract.strike)
    for tag, value in ((730, "0"), (731, "1"), (734, "0")):
        put(message, tag, value)
    quantity = fix.Group(702, 703)
    put(quantity, 703, "TOT")
    put(quantity, 704 if contracts > 0 else 705, abs(contracts))
    message.addGroup(quantity)
    amount = fix.Group(753, 707)
    put(amount, 707, "FMTM")
    put(amount, 708, "0")
    message.addGroup(amount)
    return message


def read_position(message: fix.Message) -> tuple[str, str, int]:
    """Request id, contract, signed contracts."""
    quantity = fix.Group(702, 703)
    message.getGroup(1, quantity)
    contracts = int(Decimal(get(quantity, 704, "0"))) - int(Decimal(get(quantity, 705, "0")))
    return (
        get(message, 710),
        contract_of(get(message, 55), get(message, 461), get(message, 541), get(message, 202)),
        contracts,
    )
