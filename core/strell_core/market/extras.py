"""What a session's file told beside bid and ask: last prices, sizes, volatilities and Greeks as delivered.

Kept beside the chain and never used for a price or a decision: it is there to be shown, compared and written out
again. Stored like the chain: whole numbers as differences along time, the rest as its four bytes, shuffled, packed
with zstandard behind a version byte and a checksum.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
import zstandard

from strell_core.market.chains import ChainFormatError, pack_whole, shuffled, unpack_whole, unshuffled

WHOLE: dict[str, str] = {
    "last": "price of the last trade",
    "bid_size": "contracts bid for",
    "ask_size": "contracts offered",
    "volume": "contracts traded in the session",
    "open_interest": "open interest",
}
"""Whole numbers, prices of 0.0001 points; -1 where nothing was told."""
REAL: dict[str, str] = {
    "iv": "implied volatility as delivered",
    "delta": "delta as delivered",
    "gamma": "gamma as delivered",
    "theta": "theta as delivered",
    "vega": "vega as delivered",
    "rho": "rho as delivered",
}
"""Single-precision numbers, in the file's own units; NaN where nothing was told."""
Extras = Mapping[str, npt.NDArray[Any]]
"""Arrays ``(contracts, snapshots)`` in the order of a chain, by a name of :data:`WHOLE` or :data:`REAL`."""
_VERSION = 1


def told(extras: Extras, n: int, m: int) -> npt.NDArray[np.bool_]:
    """Of which contracts at which snapshots, ``(n, m)``, anything was told."""
    out = np.zeros((n, m), np.bool_)
    for name, values in extras.items():
        out |= values >= 0 if name in WHOLE else ~np.isnan(values)
    return out


def encode_extras(extras: Extras) -> bytes:
    """Compressed; nothing for nothing. :func:`decode_extras` gives back exactly the same arrays."""
    if not extras:
        return b""
    n, m = next(iter(extras.values())).shape
    parts = [struct.pack("<BIH", len(extras), n, m)]
    for name in (*WHOLE, *REAL):
        if name in extras:
            code = name.encode()
            parts.append(struct.pack("<B", len(code)) + code)
            if name in WHOLE:
                pack_whole(extras[name].astype(np.int64), parts)
            else:
                parts.append(shuffled(extras[name].astype("<f4")))
    body = zstandard.ZstdCompressor(level=3).compress(b"".join(parts))
    return struct.pack("<BI", _VERSION, zlib.crc32(body)) + body


def decode_extras(data: bytes) -> dict[str, npt.NDArray[Any]]:
    """Read :func:`encode_extras`'s bytes; raises :class:`ChainFormatError` when they are damaged."""
    if not data:
        return {}
    if len(data) < 5:
        raise ChainFormatError("what stands beside a stored chain is cut short")
    version, checksum = struct.unpack_from("<BI", data)
    if version != _VERSION:
        raise ChainFormatError(f"what stands beside a stored chain has version {version}, known is {_VERSION}")
    if zlib.crc32(data[5:]) != checksum:
        raise ChainFormatError("what stands beside a stored chain does not match its checksum")
    body = zstandard.ZstdDecompressor().decompress(data[5:])
    count, n, m = struct.unpack_from("<BIH", body)
    at, out = 7, {}
    for _ in range(count):
        length = body[at]
        name = body[at + 1 : at + 1 + length].decode()
        at += 1 + length
        values: npt.NDArray[Any]
        if name in WHOLE:
            values, at = unpack_whole(body, at, n, m, True)
        else:
            values = unshuffled(body[at : at + 4 * n * m], "<f4", n * m).reshape(n, m).astype(np.float32)
            at += 4 * n * m
        out[name] = values
    return out
