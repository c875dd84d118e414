"""Contacts as cards (vCard 4.0, RFC 6350), from rows that have a name and a number."""

from __future__ import annotations

import re
from collections.abc import Sequence

from needlewright.core.databases.records import Value

NAMES = ("name", "display_name", "full_name", "fn", "contact_name", "first_name")
NUMBERS = ("number", "phone", "phone_number", "tel", "mobile", "normalized_number")
LINE = 75  # octets of a line, without its end (3.2)
SHORT = re.compile(r"[^0-9*#+]")


def card(columns: Sequence[str], values: Sequence[Value]) -> str | None:
    """A row as a card; None where it is no contact."""
    told = {name.lower(): value for name, value in zip(columns, values)}
    name = next((told[n] for n in NAMES if isinstance(told.get(n), str) and told[n]), None)
    number = next((told[n] for n in NUMBERS if isinstance(told.get(n), str | int)), None)
    if (name is None and not number) or not any(n in told for n in NUMBERS):
        return None
    lines = ["BEGIN:VCARD", "VERSION:4.0", f"FN:{_escaped(str(name or number))}"]
    digits = SHORT.sub("", str(number or ""))
    if digits.startswith("+"):
        lines.append(f"TEL;VALUE=uri:tel:{digits}")
    elif number:
        lines.append(f"TEL;VALUE=text:{_escaped(str(number))}")  # a local one is no URI
    lines.append("END:VCARD")
    return "".join(f"{_folded(line)}\r\n" for line in lines)


def _escaped(text: str) -> str:
    """Text as a value (3.4)."""
    for plain, coded in (("\\", "\\\\"), (",", "\\,"), (";", "\\;"), ("\r\n", "\\n"),
                         ("\n", "\\n"), ("\r", "\\n")):
        text = text.replace(plain, coded)
    return text


def _folded(line: str) -> str:
    """A line in parts that are short enough, none cut within a letter."""
    parts: list[bytes] = []
    part = b""
    for letter in line:
        coded = letter.encode("utf-8", "replace")
        if len(part) + len(coded) > LINE - bool(parts):
            parts.append(part)
            part = b""
        part += coded
    return b"\r\n ".join([*parts, part]).decode()
