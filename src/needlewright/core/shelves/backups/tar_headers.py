"""Headers of tar archives: ustar and pax (POSIX.1-2017, pax, "ustar Interchange Format" and "pax
Extended Header"), sizes in base 256 (GNU tar manual, "Basic Tar Format")."""

from __future__ import annotations

from needlewright.core.shelves.item_shelf import MOST_STATED

RECORD = 512
REPEATED = frozenset(("GNU.sparse.offset", "GNU.sparse.numbytes"))
SPARSE_MAP = "GNU.sparse.map"


def header(raw: bytes) -> tuple[str, int, int, bytes, str] | None:
    """(path, size, modified, kind, what it is a link to); None where it is no header."""
    told = octal(raw[148:156])
    if told is None or told not in (
            256 + sum(raw[:148]) + sum(raw[156:]),
            256 + sum(b - 256 * (b > 127) for b in raw[:148] + raw[156:])):
        return None
    size, mtime = octal(raw[124:136]), octal(raw[136:148])
    if size is None or not 0 <= size < MOST_STATED:
        return None
    name = raw[:100].split(b"\0")[0].decode("utf-8", "surrogateescape")
    if raw[257:263] == b"ustar\0":  # the field is others' in GNU's own format
        before = raw[345:500].split(b"\0")[0].decode("utf-8", "surrogateescape")
        name = f"{before}/{name}" if before else name
    target = raw[157:257].split(b"\0")[0].decode("utf-8", "surrogateescape")
    return name, size, mtime or 0, raw[156:157], target


def octal(field: bytes) -> int | None:
    if field[0] in (0x80, 0xFF):
        return int.from_bytes(field[1:], "big") if field[0] == 0x80 else None
    text = field.strip(b" \0")
    try:
        return int(text, 8) if text else 0
    except ValueError:
        return None


def pax(data: bytes) -> dict[str, str]:
    """The records of a header of pax: "length key=value\\n" each."""
    found: dict[str, str] = {}
    at = 0
    while at < len(data):
        space = data.find(b" ", at, at + 20)
        length = number(data[at : max(at, space)].decode("ascii", "replace"))
        if space < at or length <= space - at or at + length > len(data):
            break
        raw, _, value = data[space + 1 : at + length - 1].partition(b"=")
        key, text = raw.decode("utf-8", "replace"), value.decode("utf-8", "surrogateescape")
        if key in REPEATED:  # pairs of a map, one record a number
            key, text = SPARSE_MAP, f"{found[SPARSE_MAP]},{text}" if SPARSE_MAP in found else text
        found[key] = text
        at += length
    return found


def number(text: str | None) -> int:
    return int(text) if text and text.isascii() and text.isdigit() and len(text) < 20 else 0
