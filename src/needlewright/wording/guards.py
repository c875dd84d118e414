"""The guards on a destination, as lines beside it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.wording import errors, units

if TYPE_CHECKING:
    from needlewright.core.delivery.guards import Guard

HOLDING = {
    "to-apart": "not in the job folder",
    "to-off-source": "not on {source}",
    "to-empty": "empty",
    "to-idle": "nobody else delivers there",
    "to-unfinished": "an unfinished delivery of this job, which will be done anew",
    "to-writable": "may be written to",
    "to-space": "{free_size} free, {need_size} needed",
    "to-fits": "file sizes fit its file system ({file_system})",
}


def line(guard: Guard) -> str:
    """What the guard found, as a short line when it holds and a sentence when it does not."""
    if not guard.holds:
        return errors.sentence(guard.code, guard.values)
    values = dict(guard.values)
    for name in ("free", "need"):
        if name in values:
            values[f"{name}_size"] = units.size(int(values[name]))
    return HOLDING[guard.code].format(**values)
