"""The known formats. A new module in this package registers itself; nothing here names one."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Mapping
from types import MappingProxyType

from needlewright.core.formats.base import Format

_formats: dict[str, Format] = {}
_loaded = False


def register(entry: Format) -> Format:
    """Add a format; ValueError if its name is taken."""
    if entry.name in _formats:
        raise ValueError(f"format {entry.name} is registered twice")
    _formats[entry.name] = entry
    return entry


def formats() -> Mapping[str, Format]:
    """All formats by name, sorted, so that the order of imports decides nothing."""
    global _loaded
    if not _loaded:
        package = importlib.import_module("needlewright.core.formats")
        for module in pkgutil.iter_modules(package.__path__):
            importlib.import_module(f"{package.__name__}.{module.name}")
        _loaded = True
    return MappingProxyType(dict(sorted(_formats.items())))
