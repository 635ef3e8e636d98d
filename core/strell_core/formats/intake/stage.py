"""Rows laid aside by underlying and session until a session is whole, so that a file may be in any order
and larger than memory."""

from __future__ import annotations

import datetime as dt
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt


class Stage:
    """A folder with a file of rows for each underlying and session."""

    def __init__(self, folder: Path, row: np.dtype[Any]) -> None:
        self.folder = folder
        self.row = row

    def clear(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(parents=True)

    def add(self, rows: dict[str, npt.NDArray[Any]]) -> None:
        for symbol, mine in rows.items():
            folder = self.folder / symbol
            folder.mkdir(exist_ok=True)
            if (mine["session"] == mine["session"][0]).all():
                with open(folder / f"{int(mine['session'][0])}.rows", "ab") as file:
                    file.write(mine.tobytes())
                continue
            sessions, place = np.unique(mine["session"], return_inverse=True)
            order = np.argsort(place, kind="stable")
            ends = np.cumsum(np.bincount(place))
            begin = 0
            for session, end in zip(sessions.tolist(), ends.tolist(), strict=True):
                with open(folder / f"{session}.rows", "ab") as file:
                    file.write(mine[order[begin:end]].tobytes())
                begin = end

    def sessions(self) -> list[tuple[str, dt.date]]:
        """What is laid aside, by underlying and date."""
        found = [(path.parent.name, int(path.stem)) for path in self.folder.glob("*/*.rows")]
        return [(symbol, dt.date.fromordinal(ordinal)) for symbol, ordinal in sorted(found)]

    def rows(self, symbol: str, date: dt.date) -> npt.NDArray[Any]:
        return np.fromfile(self.folder / symbol / f"{date.toordinal()}.rows", self.row)
