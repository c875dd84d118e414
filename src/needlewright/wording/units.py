"""Sizes, places, times and counts in words. Decimal units, as media are sold."""

from __future__ import annotations

from datetime import datetime

STEPS = ((10**12, "TB"), (10**9, "GB"), (10**6, "MB"), (10**3, "kB"))
MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September",
          "October", "November", "December")


def size(count: int) -> str:
    """'5.8 MB'; bytes below 1000 as they are."""
    for unit, name in STEPS:
        if count >= unit:
            value = count / unit
            return f"{value:.0f} {name}" if value >= 100 else f"{value:.1f} {name}"
    return f"{count} bytes" if count != 1 else "1 byte"


def place(offset: int) -> str:
    """A place on a medium, finer than a size: '31.204 GB'."""
    for unit, name in STEPS:
        if offset >= unit:
            return f"{offset / unit:.3f} {name}" if unit >= 10**9 else f"{offset / unit:.1f} {name}"
    return f"{offset} bytes"


def stretch(start: int, stop: int) -> str:
    """'31.2 to 33.0 GB': a range with one unit."""
    for unit, name in STEPS:
        if stop >= unit:
            digits = 2 if stop - start < unit else 1
            return f"{start / unit:.{digits}f} to {stop / unit:.{digits}f} {name}"
    return f"{start} to {stop} bytes"


def speed(bytes_per_second: float) -> str:
    return f"{size(round(bytes_per_second))}/s"


def duration(seconds: float) -> str:
    """'2 min 46 s', 'under 1 s', '3 h 10 min'."""
    whole = round(seconds)
    if whole < 1:
        return "under 1 s"
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s" if whole < 600 else f"{whole // 60} min"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def count(number: int, one: str, many: str | None = None) -> str:
    """'1 find', '1,284 finds'."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def percent(share: float) -> str:
    """A share as whole percent, never rounded up to 100 or down to 0."""
    whole = round(100 * share)
    if whole >= 100 and share < 1.0:
        whole = 99
    if whole <= 0 and share > 0.0:
        return "under 1 %"
    return f"{whole} %"


def moment(rfc3339: str) -> str:
    """'12 May 2031, 05:58:12, zone unknown'; the text itself where it is no date."""
    try:
        when = datetime.fromisoformat(rfc3339)
    except ValueError:
        return rfc3339
    zone = ", zone unknown" if when.tzinfo is None else f", UTC{when:%z}"
    return f"{when.day} {MONTHS[when.month - 1]} {when.year}, {when:%H:%M:%S}{zone}"


def day(rfc3339: str) -> str:
    """'12 May 2031'; the text itself where it is no date."""
    try:
        when = datetime.fromisoformat(rfc3339)
    except ValueError:
        return rfc3339
    return f"{when.day} {MONTHS[when.month - 1]} {when.year}"


def clock(seconds: float) -> str:
    """A place in a clip: '0:07.2', '1:02:33.0'."""
    tenths = max(0, round(seconds * 10))
    minutes, rest = divmod(tenths, 600)
    hours, minutes = divmod(minutes, 60)
    tail = f"{rest // 10:02d}.{rest % 10}"
    return f"{hours}:{minutes:02d}:{tail}" if hours else f"{minutes}:{tail}"
