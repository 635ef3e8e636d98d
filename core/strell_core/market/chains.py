"""One session of an option chain as arrays, and its compressed form.

Layout: contract-major, contracts sorted by expiration, right, strike. Stored form: bids as tick
deltas along time, spreads in ticks, IV as u16 of 0.0001, each byte-shuffled and packed with
zstandard behind a version byte and a checksum.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import struct
import zlib
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
import numpy.typing as npt
import zstandard
from numba import njit

from strell_core.market.instruments import SETTLEMENTS, STRIKE_SCALE, ContractKey, strike_of, thousandths

IntArray = npt.NDArray[np.int32]
FORMAT_VERSION = 2
_OWN_SETTLEMENTS = 3
"""The version in which contracts say of themselves when they settle."""
_WHOLE_STRIKES = 1
"""The version that stored strikes as whole points."""
NO_QUOTE = -1
"""Bid and ask of a contract that was not quoted in a snapshot."""
_RIGHTS = ("call", "put")


class ChainFormatError(ValueError):
    """A stored session chain is damaged or of an unknown version."""


@dataclass(frozen=True)
class SessionChain:
    """All snapshots of one underlying in one session.

    ``bid`` and ``ask`` are ``(contracts, snapshots)`` in quanta, ``iv`` the same shape in 0.0001 of
    annual volatility (0: none), ``spot`` is ``(snapshots,)`` in 0.01 points, ``forward`` is
    ``(expirations, snapshots)`` in points (NaN: none), ``times`` epoch seconds.
    ``open_interest`` (as last published) and ``volume`` (of the session) are ``(contracts,)``.
    """

    symbol: str
    date: dt.date
    times: npt.NDArray[np.int64]
    spot: IntArray
    settlement: int
    """Official closing value, 0.01 points."""
    expirations: tuple[dt.date, ...]
    forward: npt.NDArray[np.float64]
    contracts: tuple[ContractKey, ...]
    bid: IntArray
    ask: IntArray
    iv: npt.NDArray[np.uint16]
    open_interest: IntArray
    volume: IntArray

    @property
    def quotes(self) -> int:
        return int(self.bid.size)


def shuffled(values: npt.NDArray[np.generic]) -> bytes:
    raw = np.ascontiguousarray(values)
    return raw.view(np.uint8).reshape(-1, raw.itemsize).T.tobytes()


def unshuffled(data: bytes, dtype: str, count: int) -> npt.NDArray[np.generic]:
    width = np.dtype(dtype).itemsize
    return np.frombuffer(data, np.uint8).reshape(width, count).T.copy().view(dtype).reshape(count)


def _zigzag(values: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    return (values << 1) ^ (values >> 63)


@njit(cache=True, nogil=True)
def _unpacked(planes: npt.NDArray[np.uint8], n: int, m: int, summed: bool) -> IntArray:
    """What :func:`_pack` stored, ``(n, m)``: bytes joined, signs folded back, differences along a row added up."""
    out = np.empty((n, m), np.int32)
    low, high = planes[0], planes[1]
    for i in range(n):
        total = np.int64(0)
        for t in range(m):
            at = i * m + t
            raw = np.int64(low[at]) | (np.int64(high[at]) << 8)
            for byte in range(2, planes.shape[0]):
                raw |= np.int64(planes[byte, at]) << (8 * byte)
            value = (raw >> 1) ^ -(raw & 1)
            total = total + value if summed else value
            out[i, t] = total
    return out


def _pack(values: npt.NDArray[np.int64], parts: list[bytes]) -> None:
    width = next(width for width in (2, 4, 8) if int(values.max(initial=0)) < 1 << (8 * width))
    parts.append(struct.pack("<B", width) + shuffled(values.astype(f"<u{width}")))


def pack_whole(values: npt.NDArray[np.int64], parts: list[bytes]) -> None:
    """Whole numbers ``(contracts, snapshots)`` as differences along time."""
    _pack(_zigzag(np.diff(values, axis=1, prepend=0)), parts)


def unpack_whole(body: bytes, at: int, n: int, m: int, summed: bool) -> tuple[IntArray, int]:
    """What :func:`pack_whole` stored at ``at`` (``summed``), and where it ends."""
    width = body[at]
    end = at + 1 + width * n * m
    planes = np.frombuffer(body[at + 1 : end], np.uint8).reshape(width, n * m)
    return np.asarray(_unpacked(planes, n, m, summed)), end


@lru_cache(maxsize=4)
def _keys(expirations: tuple[dt.date, ...], contracts: tuple[ContractKey, ...]) -> bytes:
    """Contracts as stored: rank of the expiration, right and strike, where any has one its own settlement,
    byte-shuffled."""
    rank = {date: index for index, date in enumerate(expirations)}
    rows = [
        (rank[c.expiration], _RIGHTS.index(c.right), thousandths(c.strike), SETTLEMENTS.index(c.settles))
        for c in contracts
    ]
    table = np.array(rows, np.int32).reshape(len(contracts), 4)
    columns = 4 if bool(table[:, 3].any()) else 3
    return shuffled(table[:, :columns].astype("<i4").T.copy())


@lru_cache(maxsize=4)
def _contracts(
    symbol: str, expirations: tuple[dt.date, ...], keys: bytes, scale: int, width: int
) -> tuple[ContractKey, ...]:
    """What :func:`_keys` stored in ``width`` columns; a market's snapshots share theirs."""
    n = len(keys) // (4 * width)
    rank, *columns = unshuffled(keys, "<i4", width * n).reshape(width, n)
    edges = [0, *(np.flatnonzero(np.diff(rank)) + 1).tolist(), n] if n else []
    table = np.ascontiguousarray(np.array(columns).T)
    out: list[ContractKey] = []
    for begin, end in pairwise(edges):
        out += _listed(symbol, expirations[rank[begin]], table[begin:end].tobytes(), scale, width - 1)
    return tuple(out)


@lru_cache(maxsize=512)
def _listed(symbol: str, expiration: dt.date, rows: bytes, scale: int, width: int) -> tuple[ContractKey, ...]:
    """Contracts of one expiration from right, strike and settlement in rows; most of one session are there in the next
    as well."""
    return tuple(
        ContractKey(expiration, _RIGHTS[right], strike_of(strike * scale), symbol, SETTLEMENTS[settles[0] if settles else 0])
        for right, strike, *settles in np.frombuffer(rows, np.int32).reshape(-1, width).tolist()
    )  # fmt: skip


def encode(chain: SessionChain) -> bytes:
    """Compress a session chain. :func:`decode` gives back exactly the same arrays."""
    n, m, e = len(chain.contracts), len(chain.times), len(chain.expirations)
    symbol = chain.symbol.encode()
    parts = [
        struct.pack("<HHIiiB", e, m, n, chain.date.toordinal(), chain.settlement, len(symbol)) + symbol,
        chain.times.astype("<i8").tobytes(),
        np.array([d.toordinal() for d in chain.expirations], "<i4").tobytes(),
        _keys(chain.expirations, chain.contracts),
        chain.spot.astype("<i4").tobytes(),
        shuffled(chain.forward.astype("<f8")),
        shuffled(chain.open_interest.astype("<i4")),
        shuffled(chain.volume.astype("<i4")),
    ]
    bid = chain.bid.astype(np.int64)
    pack_whole(bid, parts)
    _pack(_zigzag(chain.ask.astype(np.int64) - bid), parts)
    pack_whole(chain.iv.astype(np.int64), parts)
    body = zstandard.ZstdCompressor(level=3).compress(b"".join(parts))
    version = _OWN_SETTLEMENTS if any(c.settles for c in chain.contracts) else FORMAT_VERSION
    return struct.pack("<BI", version, zlib.crc32(body)) + body


def decode(data: bytes) -> SessionChain:
    """Read :func:`encode`'s bytes; raises :class:`ChainFormatError` when they are damaged."""
    if len(data) < 5:
        raise ChainFormatError("a stored session chain is cut short")
    version, checksum = struct.unpack_from("<BI", data)
    if version not in (_WHOLE_STRIKES, FORMAT_VERSION, _OWN_SETTLEMENTS):
        raise ChainFormatError(f"a stored session chain has version {version}, known is {_OWN_SETTLEMENTS}")
    if zlib.crc32(data[5:]) != checksum:
        raise ChainFormatError("a stored session chain does not match its checksum")
    body = zstandard.ZstdDecompressor().decompress(data[5:])
    at = 0

    def take(size: int) -> bytes:
        nonlocal at
        at += size
        return body[at - size : at]

    e, m, n, ordinal, settlement, length = struct.unpack("<HHIiiB", take(17))
    symbol = take(length).decode()
    times = np.frombuffer(take(8 * m), "<i8").astype(np.int64)
    expirations = tuple(dt.date.fromordinal(int(o)) for o in np.frombuffer(take(4 * e), "<i4"))
    width = 4 if version == _OWN_SETTLEMENTS else 3
    contracts = _contracts(
        symbol, expirations, take(4 * width * n), STRIKE_SCALE if version == _WHOLE_STRIKES else 1, width
    )
    spot = np.frombuffer(take(4 * m), "<i4").astype(np.int32)
    forward = unshuffled(take(8 * e * m), "<f8", e * m).reshape(e, m).astype(np.float64)
    open_interest = unshuffled(take(4 * n), "<i4", n).astype(np.int32)
    volume = unshuffled(take(4 * n), "<i4", n).astype(np.int32)
    bid, at = unpack_whole(body, at, n, m, True)
    spread, at = unpack_whole(body, at, n, m, False)
    iv, at = unpack_whole(body, at, n, m, True)
    return SessionChain(
        symbol, dt.date.fromordinal(ordinal), times, spot, settlement, expirations, forward, contracts, bid,
        bid + spread, iv.astype(np.uint16), open_interest, volume,
    )  # fmt: skip


def digest(data: bytes) -> str:
    """Identity of a stored session chain: SHA-256 over its bytes."""
    return hashlib.sha256(data).hexdigest()
