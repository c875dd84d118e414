"""Some days of files that are offered with their dates."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date


@dataclass(frozen=True, slots=True)
class Days:
    """From `first` to `last`, both included, as YYYY-MM-DD; "": with no limit."""

    first: str
    last: str

    def holds(self, dates: Iterable[str | None]) -> bool:
        """Whether one of `dates` (RFC 3339) is of them, by the clock that it was told by; so is
        what has no date, which might be."""
        known = [told[:10] for told in dates if told]
        return not known or any(
            self.first <= day and (not self.last or day <= self.last) for day in known)

    def __str__(self) -> str:
        return f"{self.first}:{self.last}"


def days_of(text: str) -> Days | None:
    """'2031-05-09:2031-05-12', either end left out, or one day; None for "". Raises ValueError."""
    text = text.strip()
    if not text:
        return None
    first, colon, last = text.partition(":")
    first, last = (day.strip() and date.fromisoformat(day.strip()).isoformat()
                   for day in (first, last if colon else first))
    if last and first > last:
        raise ValueError(text)
    return Days(first, last)
