"""Finding declarations: every module of a room's folder that says ``register(...)`` is known."""

from __future__ import annotations

import importlib
import pkgutil
from types import ModuleType
from typing import Generic, Protocol, TypeVar

from strell_core.measures.declaration import Declaration


class Declared(Protocol):
    @property
    def declaration(self) -> Declaration: ...


D = TypeVar("D", bound=Declared)


class Registry(Generic[D]):
    """Declared things of one kind, by id, in the order in which they registered."""

    def __init__(self) -> None:
        self._items: dict[str, D] = {}

    def register(self, item: D) -> D:
        key = item.declaration.id
        if key in self._items:
            raise ValueError(f"two declarations are called {key}")
        self._items[key] = item
        return item

    def remove(self, key: str) -> None:
        """Forget a declaration again; raises ``KeyError`` for one that is not known."""
        del self._items[key]

    def __getitem__(self, key: str) -> D:
        return self._items[key]

    def __contains__(self, key: object) -> bool:
        return key in self._items

    def all(self) -> list[D]:
        return list(self._items.values())


def load_folder(package: ModuleType) -> None:
    """Import every module of a package, so that their registrations happen."""
    for found in sorted(pkgutil.iter_modules(package.__path__), key=lambda module: module.name):
        importlib.import_module(f"{package.__name__}.{found.name}")
