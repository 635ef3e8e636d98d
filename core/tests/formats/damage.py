"""Files damaged at random, the same way for the same seed."""

from __future__ import annotations

import gzip
import random


def damaged(random_: random.Random, good: list[str]) -> bytes:
    """A CSV file with a few cells, rows or bytes spoilt; ``good`` are its header and rows."""
    lines = list(good)
    for _ in range(random_.randint(1, 4)):
        kind = random_.randrange(9)
        at = random_.randrange(1, len(lines))
        cells = lines[at].split(",")
        where = random_.randrange(len(cells))
        if kind == 0:
            cells[where] = random_.choice(
                ["", "NaN", "null", "-", "=cmd()", "@x", "1,5", "999999999999999999", "1e400", "٣", "0x1F"]
            )
        elif kind == 1:
            cells[where] = "A" * random_.choice([100, 70_000])
        elif kind == 2:
            cells.insert(where, "more")
        elif kind == 3:
            cells.pop()
        elif kind == 4:
            cells[where] = cells[where] + "\x00"
        elif kind == 5:
            cells[where] = '"' + cells[where]
        elif kind == 6:
            lines.insert(at, "")
        elif kind == 7:
            cells[where] = " " + cells[where] + " "
        else:
            cells[where] = cells[where].replace(".", ",")
        lines[at] = ",".join(cells)
    data = "\n".join(lines).encode()
    how = random_.randrange(8)
    if how == 0:
        data = data[: random_.randrange(1, len(data))]
    elif how == 1:
        place = random_.randrange(len(good[0]) + 1, len(data))
        data = data[:place] + bytes([random_.randrange(128, 256)]) + data[place + 1 :]
    elif how == 2:
        data = gzip.compress(data)[: random_.choice([None, -9, 200])]
    elif how == 3:
        data = data.replace(b"\n", b"\r\n")
    return data
