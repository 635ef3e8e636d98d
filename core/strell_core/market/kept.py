"""A bounded memory of what was computed."""

from __future__ import annotations

import threading
from typing import Any


class Kept(dict[Any, Any]):
    """What was computed and is kept, the oldest forgotten for the newest: whoever asks for many things makes others
    wait, and takes no memory without end."""

    MOST = 600

    def __init__(self) -> None:
        super().__init__()
        self._lock = threading.Lock()

    def __setitem__(self, key: Any, value: Any) -> None:
        with self._lock:
            while key not in self and len(self) >= self.MOST:
                del self[next(iter(self))]
            super().__setitem__(key, value)

    def setdefault(self, key: Any, default: Any = None) -> Any:
        if key not in self:
            self[key] = default
        return self.get(key, default)
