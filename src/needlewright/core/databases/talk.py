"""Rows that are messages, calls or notes, told by the names of their columns, and their dates."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TypeGuard

from needlewright.core.databases.records import Value
from needlewright.core.databases.rows import Row

TEXTS = ("text", "body", "message", "content", "snippet")
WHOM = ("sender", "address", "number", "phone_number", "from", "author", "contact", "recipient",
        "name")
WHEN = ("sent", "date", "time", "timestamp", "received", "date_sent", "created", "sent_at", "start",
        "written", "modified", "changed")
TITLES = ("title", "subject", "heading", "headline")
NAME_LENGTHS = range(4, 1024)  # characters
LENGTHS = ("duration", "duration_seconds", "length")
#: (least, less than, units a second, their epoch) of the numbers that dates are kept as; ranges
#: are years 2001 to 2096, and 2007 to 2031 for those that count from 2001.
EPOCH, MILLENNIUM = datetime(1970, 1, 1, tzinfo=UTC), datetime(2001, 1, 1, tzinfo=UTC)
SCALES = ((2 * 10**8, 978_307_200, 1, MILLENNIUM), (978_307_200, 4 * 10**9, 1, EPOCH),
          (978_307_200_000, 4 * 10**12, 1000, EPOCH),
          (978_307_200_000_000, 4 * 10**15, 10**6, EPOCH),
          (2 * 10**17, 978_307_200 * 10**9, 10**9, MILLENNIUM),
          (978_307_200 * 10**9, 4 * 10**18, 10**9, EPOCH))


@dataclass(frozen=True, slots=True)
class Talk:
    """A message, a call or a note. `whom`: with whom, or the title of a note; `when`: RFC 3339, as
    text stood there, or reckoned from a number, then in UTC; "" for none; `seconds`: of a call."""

    text: str
    whom: str
    when: str
    seconds: int | None


def talk_of(row: Row) -> Talk | None:
    """What a row says as a message, a call or a note; None where it is none of them."""
    told = {name.lower(): value for name, value in zip(row.columns, row.values)
            if name not in row.lost}
    length = _first(told, LENGTHS)
    text = _first(told, TEXTS)
    whom = _first(told, WHOM)
    when = _first(told, WHEN)
    title = _first(told, TITLES)
    if whom is None and isinstance(title, str) and isinstance(text, str):
        return Talk(text, title, moment(when), None)
    call = isinstance(length, int) and not isinstance(text, str)
    if when is None or whom is None or not (isinstance(text, str) or call):
        return None
    return Talk(text if isinstance(text, str) else "", str(whom), moment(when),
                length if call and isinstance(length, int) else None)


def _first(told: Mapping[str, Value], names: tuple[str, ...]) -> Value:
    return next((told[name] for name in names
                 if told.get(name) is not None and told[name] != ""), None)


def may_name_file(value: Value) -> TypeGuard[str]:
    """Whether a value reads as the name of a file, as those of attachments do."""
    return isinstance(value, str) and len(value) in NAME_LENGTHS and "." in value[-9:]


def moment(value: Value) -> str:
    """A date as it stands there, or what a number says as one; "" for what says none."""
    if isinstance(value, str):
        return value
    if not isinstance(value, int | float):
        return ""
    for least, most, scale, epoch in SCALES:
        if least <= value < most:
            found = epoch + timedelta(seconds=int(value // scale))
            return found.strftime("%Y-%m-%dT%H:%M:%SZ")
    return ""
