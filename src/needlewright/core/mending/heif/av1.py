"""Pictures coded as AV1 found in the data without an index, and what each says of itself (AV1
Bitstream & Decoding Process Specification, 5.3 to 5.5; AV1 Image File Format, 2.1).
"""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.parameter_sets import Bits

# A sequence header that says its size, of profile 0 to 2; some writers put a delimiter in front.
FIRST = re.compile(rb"(?:\x12\x00)?\x0a[\x05-\x40][\x00-\x5f]", re.DOTALL)
DELIMITER = b"\x12\0"
SEQUENCE, HEADER, GROUP, FRAME = 1, 3, 4, 6
KINDS = frozenset((HEADER, GROUP, 5, FRAME, 7, 8, 15))  # metadata, repeated header, tiles, padding
MOST_UNITS = 4096
MOST_SIZE_BYTES = 8
SRGB = (1, 13, 0)  # as colours are told that are not coded as brightness and colour (6.4.2)


@dataclass(frozen=True, slots=True)
class Sequence:
    """What a sequence header says. `width`, `height`: pixels; `depth`: bits; `colours`: primaries,
    transfer and matrix (ITU-T H.273), None where it says nothing; `full`: their range."""

    profile: int
    level: int
    tier: int
    width: int
    height: int
    depth: int
    grey: bool
    across: int
    down: int
    position: int
    colours: tuple[int, int, int] | None
    full: bool

    @property
    def configuration(self) -> bytes:
        """The body of `av1C` (AV1 in ISO Base Media File Format, 2.3.3)."""
        bits = (self.tier << 7 | (self.depth > 8) << 6 | (self.depth == 12) << 5 | self.grey << 4
                | self.across << 3 | self.down << 2 | self.position)
        return bytes((0x81, self.profile << 5 | self.level, bits, 0))


@dataclass(frozen=True, slots=True)
class Coded:
    """One picture, bytes `start` to `stop` of the data."""

    start: int
    stop: int
    sequence: Sequence


def pictures(data: bytes) -> list[Coded]:
    """Those that stand whole in `data`, in their order."""
    found: list[Coded] = []
    at = 0
    while (hit := FIRST.search(data, at)) is not None:
        one = _picture(data, hit.start())
        if one is None:
            at = hit.start() + 1
        else:
            found.append(one)
            at = one.stop
    return found


def _unit(data: bytes, at: int) -> tuple[int, int, int] | None:
    """(kind, body, end) of the unit at `at` (5.3.1); None where none stands there whole."""
    if at + 2 > len(data) or data[at] & 0x81 or not data[at] & 2:
        return None
    kind, place = data[at] >> 3, at + (2 if data[at] & 4 else 1)
    size = 0
    for number, byte in enumerate(data[place : place + MOST_SIZE_BYTES]):
        size |= (byte & 0x7F) << 7 * number
        if not byte & 0x80:
            body = place + number + 1
            return (kind, body, body + size) if body + size <= len(data) else None
    return None


def _picture(data: bytes, start: int) -> Coded | None:
    """The picture whose first unit is at `start`."""
    at = start + (2 if data.startswith(DELIMITER, start) else 0)
    first = _unit(data, at)
    if first is None or first[0] != SEQUENCE:
        return None
    try:
        sequence = sequence_of(data[first[1] : first[2]])
    except FormatError:
        return None
    at, stop, header = first[2], start, False
    for _ in range(MOST_UNITS):
        unit = _unit(data, at)
        if unit is None or unit[0] not in KINDS or unit[1] == unit[2]:
            break
        header |= unit[0] == HEADER
        at = unit[2]
        if unit[0] == FRAME or (unit[0] == GROUP and header):
            stop = at
    return Coded(start, stop, sequence) if stop > start else None


def sequence_of(body: bytes) -> Sequence:
    """A sequence header (5.5.1). Raises FormatError for what is none."""
    bits = Bits(body, escaped=False)
    profile, _, reduced = bits.take(3), bits.take(1), bits.take(1)
    tier = 0
    if reduced:
        level = bits.take(5)
    else:
        level, tier = _operating_points(bits)
    wide, high = bits.take(4) + 1, bits.take(4) + 1
    width, height = bits.take(wide) + 1, bits.take(high) + 1
    if not reduced and bits.take(1):
        bits.take(7)  # lengths of frame numbers
    bits.take(3)
    if not reduced:
        bits.take(4)
        if bits.take(1):
            bits.take(2)
            order = True
        else:
            order = False
        choose = 2 if bits.take(1) else bits.take(1)
        if choose and not bits.take(1):
            bits.take(1)
        if order:
            bits.take(3)
    bits.take(3)
    if profile > 2:
        raise FormatError("coding-unknown", offset=0)
    return _colours(bits, profile, level, tier, width, height)


def _operating_points(bits: Bits) -> tuple[int, int]:
    """(level, tier) of the first operating point (5.5.1)."""
    model, delay = 0, 0
    if bits.take(1):  # timing
        bits.take(64)
        if bits.take(1):
            bits.ue()  # of the same form (4.10.3)
        model = bits.take(1)
        if model:
            delay = bits.take(5) + 1
            bits.take(42)
    initial = bits.take(1)
    found = (0, 0)
    for number in range(bits.take(5) + 1):
        bits.take(12)
        level = bits.take(5)
        tier = bits.take(1) if level > 7 else 0
        if model and bits.take(1):
            bits.take(2 * delay + 1)
        if initial and bits.take(1):
            bits.take(4)
        found = (level, tier) if number == 0 else found
    return found


def _colours(bits: Bits, profile: int, level: int, tier: int, width: int,
             height: int) -> Sequence:
    """5.5.2."""
    deep = bits.take(1)
    depth = 10 if deep else 8
    if profile == 2 and deep and bits.take(1):
        depth = 12
    grey = profile != 1 and bool(bits.take(1))
    told = (bits.take(8), bits.take(8), bits.take(8)) if bits.take(1) else None
    across, down, position, full = 1, 1, 0, True
    if grey:
        full = bool(bits.take(1))
    elif told == SRGB:
        across = down = 0
    else:
        full = bool(bits.take(1))
        if profile == 1:
            across = down = 0
        elif profile == 2 and depth == 12:
            across = bits.take(1)
            down = bits.take(1) if across else 0
        elif profile == 2:
            down = 0
        if across and down:
            position = bits.take(2)
    bits.take(1 if grey else 2)  # whether planes differ, and grain of film
    value, left = bits.take_all()
    if not left or value != 1 << left - 1:  # a one, and zeros to the end (5.3.4)
        raise FormatError("data-ends", offset=0)
    return Sequence(profile, level, tier, width, height, depth, grey, across, down, position, told,
                    full)


def described(sequence: Sequence) -> list[tuple[bytes, bytes, bool]]:
    """(name, content, whether a reader must know it) of what an index says of such a picture."""
    channels = 1 if sequence.grey else 3
    said = [(b"ispe", struct.pack(">III", 0, sequence.width, sequence.height), False),
            (b"pixi", bytes((0, 0, 0, 0, channels, *[sequence.depth] * channels)), False),
            (b"av1C", sequence.configuration, True)]
    if sequence.colours is not None and not sequence.grey:
        said.append((b"colr", b"nclx" + struct.pack(
            ">HHHB", *sequence.colours, sequence.full << 7), False))
    return said
