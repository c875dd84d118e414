"""Registries that fill themselves: every module of a package registers what it brings."""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
from collections.abc import Mapping
from types import MappingProxyType
from typing import Generic, TypeVar

Entry = TypeVar("Entry")


class Registry(Generic[Entry]):
    """Entries by name, from all modules of `package` whose names begin with `prefix`; or, with
    `within`, from the module of that name in each package inside `package`. `also`: other packages
    whose modules are asked as well.

    Loaded at the first look; sorted by name, so that the order of imports decides nothing.
    """

    def __init__(self, package: str, prefix: str = "", within: str = "",
                 also: tuple[str, ...] = ()) -> None:
        self._package, self._prefix, self._within = package, prefix, within
        self._packages = (package, *also)
        self._entries: dict[str, Entry] = {}
        self._loaded = False

    def add(self, name: str, entry: Entry) -> Entry:
        """Add an entry; ValueError if its name is taken."""
        if name in self._entries:
            raise ValueError(f"{name} is registered twice in {self._package}")
        self._entries[name] = entry
        return entry

    def all(self) -> Mapping[str, Entry]:
        """All entries, read-only."""
        if not self._loaded:
            for name in self._packages:
                self._load(name)
            self._loaded = True
        return MappingProxyType(dict(sorted(self._entries.items())))

    def _load(self, package: str) -> None:
        for module in pkgutil.iter_modules(importlib.import_module(package).__path__):
            name = f"{package}.{module.name}"
            if self._within:
                name = f"{name}.{self._within}"
                if not module.ispkg or importlib.util.find_spec(name) is None:
                    continue
            if module.name.startswith(self._prefix):
                importlib.import_module(name)
