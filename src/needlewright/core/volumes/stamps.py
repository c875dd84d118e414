"""Times as file systems keep them, with or without a zone.

FAT: Microsoft FAT specification 1.03, section 6.1 (local time, 2 s grain). exFAT: revision 1.00,
7.4.5 to 7.4.10. NTFS: 100 ns since 1601-01-01 UTC. HFS+: seconds since 1904-01-01 UTC (TN1150).
"""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import lru_cache
from typing import NamedTuple

EPOCH = datetime(1970, 1, 1)
NT_EPOCH_S = 11_644_473_600
HFS_EPOCH_S = 2_082_844_800
EARLIEST_S, LATEST_S = -2_208_988_800, 7_258_118_400  # 1900 to 2200; beyond, it is no time


class Stamp(NamedTuple):
    """Seconds since 1970 on the clock that wrote it, nanoseconds, and that clock's zone in minutes
    east of UTC; None where nothing says which zone it was."""

    seconds: int
    nanos: int = 0
    zone: int | None = 0

    def text(self) -> str:
        """RFC 3339; without an offset where the zone is unknown."""
        moment = EPOCH + timedelta(seconds=self.seconds)
        text = moment.isoformat()
        if self.nanos:
            text += f".{self.nanos:09d}".rstrip("0")
        if self.zone is None:
            return text
        if self.zone == 0:
            return text + "Z"
        sign, minutes = ("-", -self.zone) if self.zone < 0 else ("+", self.zone)
        return f"{text}{sign}{minutes // 60:02d}:{minutes % 60:02d}"


def unix(seconds: int, nanos: int = 0) -> Stamp | None:
    """From seconds since 1970 UTC; None for 0 and for what is no plausible time."""
    if seconds == 0 or not EARLIEST_S <= seconds <= LATEST_S or not 0 <= nanos < 1_000_000_000:
        return None
    return Stamp(seconds, nanos)


def zulu(seconds: int) -> str | None:
    """RFC 3339, UTC, of seconds since 1970; None as `unix`. Quickly, for lists of many: a day is
    written once."""
    if seconds == 0 or not EARLIEST_S <= seconds <= LATEST_S:
        return None
    day, rest = divmod(seconds, 86_400)
    return f"{_day(day)}T{rest // 3600:02}:{rest // 60 % 60:02}:{rest % 60:02}Z"


@lru_cache(4096)
def _day(number: int) -> str:
    return (EPOCH + timedelta(days=number)).date().isoformat()


def nt(value: int) -> Stamp | None:
    """From 100 ns since 1601 UTC."""
    seconds, rest = divmod(value, 10_000_000)
    return unix(seconds - NT_EPOCH_S, rest * 100) if value else None


def hfs(seconds: int) -> Stamp | None:
    """From seconds since 1904 UTC."""
    return unix(seconds - HFS_EPOCH_S) if seconds else None


def dos(date: int, time: int, tens_ms: int = 0, zone: int | None = None) -> Stamp | None:
    """From a FAT date and time (16 bits each), and hundredths of a second (0 to 199).

    Local time of the device; `zone`: minutes east of UTC where that is known.
    """
    days = _days(date)
    hour, minute, second = time >> 11, time >> 5 & 63, (time & 31) * 2
    if days is None or hour > 23 or minute > 59 or second > 59 or tens_ms > 199:
        return None
    seconds = days * 86400 + hour * 3600 + minute * 60 + second + tens_ms // 100
    return Stamp(seconds, tens_ms % 100 * 10_000_000, zone)


_DAYS: dict[int, int | None] = {}


def _days(date: int) -> int | None:
    """Days since 1970 of a FAT date; None where it is none. Files of a card share few dates."""
    if date not in _DAYS:
        if len(_DAYS) > 4096:
            _DAYS.clear()
        try:
            moment = datetime(1980 + (date >> 9), date >> 5 & 15, date & 31)
            _DAYS[date] = (moment - EPOCH).days
        except ValueError:
            _DAYS[date] = None
    return _DAYS[date]
