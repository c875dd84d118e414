"""The known formats. A new module in this package registers itself; nothing here names one."""

from __future__ import annotations

from collections.abc import Mapping

from needlewright.core.formats.base import Format
from needlewright.core.registry import Registry

_formats: Registry[Format] = Registry("needlewright.core.formats")


def register(entry: Format) -> Format:
    """Add a format; ValueError if its name is taken."""
    return _formats.add(entry.name, entry)


def formats() -> Mapping[str, Format]:
    """All formats by name."""
    return _formats.all()


def form_of(name: str) -> Format | None:
    """The format whose finds are called `name`."""
    return next((f for f in formats().values()
                 if name in (f.name, *(v.name for v in f.variants))), None)
