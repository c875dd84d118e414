"""Running work and the log in words."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from needlewright.core.delivery.bag import Delivered, Delivering
from needlewright.core.search.events import Progress
from needlewright.wording import finds, units

PHASES = {"write": "writing", "bag": "making the manifests", "verify": "reading back"}

LOG = {
    "search-begins": "Search of {source} begins: {steps}.",
    "search-done": "{step} on {source}: done.",
    "search-stopped": "{step} on {source}: stopped; it goes on from there next time.",
    "range-unreadable": "Not readable from {start_place} to {stop_place}: {reason}.",
    "delivered": "Delivered {files} files, {bytes_size}, to {path}; read back and compared.",
    "delivery-stopped": "The delivery to {path} was stopped; nothing there looks complete.",
    "failed": "{text}",
    "job-made": "Job made.",
    "source-added": "{source} opened read-only, {bytes_size}.",
}


def search_line(source: str, progress: Progress) -> str:
    """'signatures, stream card: 24.4 of 59.6 GB, 212 MB/s, 2 min 46 s left'."""
    step = finds.STEPS.get(progress.step, progress.step)
    text = f"{step}, {source}: {units.size(progress.done)} of {units.size(progress.total)}"
    if progress.done >= progress.total:
        return f"{text}, last checks"
    if progress.bytes_per_second > 0:
        text += f", {units.speed(progress.bytes_per_second)}"
    if progress.seconds_left is not None:
        text += f", {units.duration(progress.seconds_left)} left"
    return text


def paused_line(source: str, progress: Progress | None) -> str:
    if progress is None:
        return f"{source}: paused"
    return f"{source}: paused at {units.size(progress.done)} of {units.size(progress.total)}"


def delivery_line(event: Delivering) -> str:
    return f"delivery: {PHASES[event.phase]}, {units.percent(event.done / max(1, event.total))}"


def delivered_line(event: Delivered) -> str:
    if not event.finished:
        return "Stopped. Nothing that looks complete was left; deliver again to finish."
    return (f"{units.count(event.files, 'file')}, {units.size(event.bytes)}: written, read back "
            "and compared.")


def log_line(code: str, values: dict[str, Any]) -> str:
    """One log entry as a sentence."""
    filled = {**values}
    if "step" in values:
        filled["step"] = finds.STEPS.get(str(values["step"]), str(values["step"])).capitalize()
    if isinstance(values.get("steps"), list):
        filled["steps"] = ", ".join(finds.STEPS.get(s, s) for s in values["steps"])
    for name in ("start", "stop"):
        if isinstance(values.get(name), int):
            filled[f"{name}_place"] = units.place(values[name])
    if isinstance(values.get("bytes"), int):
        filled["bytes_size"] = units.size(values["bytes"])
    try:
        return LOG[code].format(**filled)
    except KeyError:
        return code.replace("-", " ") + "."


def clock(seconds: float) -> str:
    """When a log entry was made, by the local clock."""
    return f"{datetime.fromtimestamp(seconds):%Y-%m-%d %H:%M:%S}"
