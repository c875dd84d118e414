"""The ways to mend. A module `mend_*` of this package registers itself; nothing here names one."""

from __future__ import annotations

from collections.abc import Mapping

from needlewright.core.mending.base import Mender
from needlewright.core.registry import Registry

_menders: Registry[Mender] = Registry("needlewright.core.mending", prefix="mend_")


def register(mender: Mender) -> Mender:
    """Add a way; ValueError if its name is taken."""
    return _menders.add(mender.name, mender)


def menders() -> Mapping[str, Mender]:
    """All ways by name."""
    return _menders.all()
