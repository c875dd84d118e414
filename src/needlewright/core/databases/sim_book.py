"""The phone book of a SIM, from a dump of its file: EF_ADN (3GPP TS 51.011, 10.5.1).

A file of records of one length, of which nothing in it tells: each is a name, filled up, and
fourteen bytes with the number. The length is the one with which every record makes sense.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

FOOTER = 14  # bytes behind the name
LONGEST_NAME, MOST_BYTES = 241, 255 * 255
UNUSED = 0xFF
DIGITS = "0123456789*#p?+"  # 12: a pause; 13: any digit; 14: extended (10.5.1, note 6)
#: The default alphabet (3GPP TS 23.038, 6.2.1) and its extension, reached by 0x1B.
ALPHABET = ("@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?"
            "¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà")
EXTENSION = {0x0A: "\f", 0x14: "^", 0x28: "{", 0x29: "}", 0x2F: "\\", 0x3C: "[", 0x3D: "~",
             0x3E: "]", 0x40: "|", 0x65: "€"}
INTERNATIONAL = 0x10  # type of number (TS 24.008, 10.5.4.7)


@dataclass(frozen=True, slots=True)
class Contact:
    """An entry. `record`: counted from 1; `at`: its byte in the file."""

    record: int
    at: int
    name: str
    number: str


def contacts(data: bytes) -> list[Contact]:
    """The entries of a dump; none where it is no phone book."""
    best: list[Contact] = []
    for length in range(FOOTER, FOOTER + LONGEST_NAME + 1):
        if len(data) % length == 0 and 0 < len(data) <= MOST_BYTES:
            found = _read(data, length)
            # A multiple of the true length takes only some of the entries for ones.
            if found is not None and len(found) > len(best):
                best = found
    return best


def _read(data: bytes, length: int) -> list[Contact] | None:
    """The entries with records of `length` bytes; None where one makes no sense."""
    found = []
    for at in range(0, len(data), length):
        record = data[at : at + length]
        if record.count(UNUSED) == length:
            continue
        name, number = _name(record[:-FOOTER]), _number(record[-FOOTER:])
        if name is None or number is None or not (name or number):
            return None
        found.append(Contact(at // length + 1, at, name, number))
    return found


def _number(footer: bytes) -> str | None:
    """The number in the last bytes of a record (10.5.1); None where there is none such."""
    used, kind = footer[0], footer[1]
    if used == UNUSED:
        return "" if footer.count(UNUSED) == FOOTER else None
    if not 1 <= used <= 11 or (not kind & 0x80 and used > 1):
        return None
    digits = []
    nibbles = [n for byte in footer[2 : 1 + used] for n in (byte & 15, byte >> 4)]
    for index, nibble in enumerate(nibbles):
        if nibble == 15:
            if any(n != 15 for n in nibbles[index:]):
                return None
            break
        digits.append(DIGITS[nibble])
    if any(byte != UNUSED for byte in footer[1 + used : 12]):
        return None  # what is not used is filled
    text = "".join(digits)
    return f"+{text}" if kind & 0x70 == INTERNATIONAL and text else text


def _name(raw: bytes) -> str | None:
    """A name (TS 51.011, annex B); None where it is none."""
    if not raw or raw[0] == UNUSED:
        return "" if raw.count(UNUSED) == len(raw) else None
    if raw[0] == 0x80:
        return _wide(raw[1:])
    if raw[0] in (0x81, 0x82) and len(raw) > 3:
        two = raw[0] == 0x82
        begin = 4 if two else 3
        base = int.from_bytes(raw[2:4], "big") if two else raw[2] << 7
        body = raw[begin : begin + raw[1]]
        if len(body) != raw[1] or any(b != UNUSED for b in raw[begin + raw[1] :]):
            return None
        parts = [chr(base + (b & 0x7F)) if b & 0x80 else ALPHABET[b] for b in body]
        return _plain("".join(parts))
    text, rest = raw.rstrip(b"\xff"), iter(raw.rstrip(b"\xff"))
    if any(byte & 0x80 for byte in text):
        return None
    return _plain("".join(_letters(rest)))


def _letters(rest: Iterator[int]) -> Iterator[str]:
    for byte in rest:
        yield EXTENSION.get(next(rest, 0x20), " ") if byte == 0x1B else ALPHABET[byte]


def _wide(raw: bytes) -> str | None:
    """UCS-2, big-endian, filled up with 0xFF."""
    units = [raw[i : i + 2] for i in range(0, len(raw) - 1, 2)]
    used = [u for u in units if u != b"\xff\xff"]
    if units[: len(used)] != used:
        return None
    return _plain(b"".join(used).decode("utf-16-be", "replace"))


def _plain(text: str) -> str | None:
    """A name as people have it: none with letters that show nothing."""
    return None if any(ord(c) < 32 and c not in "\n\r" for c in text) else text.strip()
