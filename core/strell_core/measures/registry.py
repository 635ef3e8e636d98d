"""Finding declarations: every module of a room's folder that says ``register(...)`` is known."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Mapping
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
        self._declarations: dict[str, Declaration] | None = None

    def register(self, item: D) -> D:
        key = item.declaration.id
        if key in self._items:
            raise ValueError(f"two declarations are called {key}")
        self._items[key], self._declarations = item, None
        return item

    def remove(self, key: str) -> None:
        """Forget a declaration again; raises ``KeyError`` for one that is not known."""
        del self._items[key]
        self._declarations = None

    def __getitem__(self, key: str) -> D:
        return self._items[key]

    def __contains__(self, key: object) -> bool:
        return key in self._items

    def all(self) -> list[D]:
        return list(self._items.values())

    @property
    def declarations(self) -> Mapping[str, Declaration]:
        """By id: made once, however often documents ask."""
        if self._declarations is None:
            self._declarations = {key: item.declaration for key, item in self._items.items()}
        return self._declarations


def load_folder(package: ModuleType) -> None:
    """Import every module of a package, so that their registrations happen."""
    for found in sorted(pkgutil.iter_modules(package.__path__), key=lambda module: module.name):
        importlib.import_module(f"{package.__name__}.{found.name}")
