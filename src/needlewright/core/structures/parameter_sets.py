"""What the parameter sets and slice headers of H.264 and H.265 say of the order of pictures.

ITU-T H.264, 7.3.2.1, 7.3.3, 8.2.1 and E.1; H.265, 7.3.2.2, 7.3.6 and 8.3.1. Only what leads to the
order count, and how large the pictures are and how fast they follow each other.
"""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.errors import FormatError

HIGH = frozenset((100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135))
MAX_LEADING = 32


class Bits:
    """Bits from the highest on, of a NAL unit without its emulation prevention (H.264, 7.4.1), or
    where nothing is `escaped`."""

    def __init__(self, unit: bytes, escaped: bool = True) -> None:
        raw = unit.replace(b"\0\0\3", b"\0\0") if escaped else unit
        self._value, self._left = int.from_bytes(raw, "big"), len(raw) * 8

    def take(self, count: int) -> int:
        if count > self._left:
            raise FormatError("data-ends", offset=0)
        self._left -= count
        return self._value >> self._left & ((1 << count) - 1)

    def take_all(self) -> tuple[int, int]:
        """(what is left, how many bits)."""
        left = self._left
        return (self.take(left) if left else 0), left

    def ue(self) -> int:
        """An unsigned Exp-Golomb code (9.1)."""
        zeros = 0
        while not self.take(1):
            zeros += 1
            if zeros > MAX_LEADING:
                raise FormatError("data-ends", offset=0)
        return (1 << zeros) - 1 + self.take(zeros)

    def se(self) -> int:
        code = self.ue()
        return (code + 1) // 2 if code & 1 else -(code // 2)


@dataclass(frozen=True, slots=True)
class Order:
    """How slices tell the order of pictures. `lsb_bits` 0: pictures come in the order of
    decoding; `width`, `height`: pixels that are shown; `rate`: pictures a second, 0 where not told.
    """

    hevc: bool
    lsb_bits: int
    frame_bits: int = 0
    fields: bool = False
    planes: bool = False
    extra_bits: int = 0
    output_flag: bool = False
    width: int = 0
    height: int = 0
    rate: float = 0.0


def order_of_avc(sps: bytes) -> Order:
    """From a sequence parameter set with its NAL header; FormatError where it makes no sense."""
    bits = Bits(sps[:256])
    bits.take(8)
    profile = bits.take(8)
    bits.take(16)
    bits.ue()
    planes, chroma = False, 1
    if profile in HIGH:
        chroma = bits.ue()
        planes = bool(chroma == 3 and bits.take(1))
        bits.ue()
        bits.ue()
        bits.take(1)
        if bits.take(1):
            for index in range(8 if chroma != 3 else 12):
                if bits.take(1):
                    _scaling_list(bits, 16 if index < 6 else 64)
    frame_bits = bits.ue() + 4
    kind = bits.ue()
    lsb_bits = 0
    if kind == 0:
        lsb_bits = bits.ue() + 4
    elif kind == 1:
        raise FormatError("picture-order-unknown", offset=0)
    bits.ue()
    bits.take(1)
    width = (bits.ue() + 1) * 16
    height = (bits.ue() + 1) * 16
    frames_only = bits.take(1)
    height *= 1 if frames_only else 2
    rate = 0.0
    try:
        if not frames_only:
            bits.take(1)
        bits.take(1)
        if bits.take(1):
            left, right, top, bottom = (bits.ue() for _ in range(4))
            width -= (left + right) * (2 if chroma in (1, 2) else 1)
            height -= (top + bottom) * (2 if chroma == 1 else 1) * (1 if frames_only else 2)
        rate = _rate(bits) if bits.take(1) else 0.0
    except FormatError:
        pass  # what follows is of use only where it is there
    return Order(False, lsb_bits, frame_bits, not frames_only, planes, width=width, height=height,
                 rate=rate)


def _rate(bits: Bits) -> float:
    """Pictures a second by the usability information (E.1.1); 0 where it tells none."""
    if bits.take(1) and bits.take(8) == 255:
        bits.take(32)
    if bits.take(1):
        bits.take(1)
    if bits.take(1):
        bits.take(4)
        if bits.take(1):
            bits.take(24)
    if bits.take(1):
        bits.ue()
        bits.ue()
    if not bits.take(1):
        return 0.0
    units, scale = bits.take(32), bits.take(32)
    return scale / (2 * units) if units else 0.0


def _scaling_list(bits: Bits, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + bits.se()) % 256
        last = following or last


def order_of_hevc(sps: bytes, pps: bytes) -> Order:
    """From the parameter sets with their NAL headers; FormatError where they make no sense."""
    bits = Bits(sps[:512])
    bits.take(16 + 4)
    layers = bits.take(3)
    bits.take(1)
    _profile(bits, layers)
    bits.ue()
    chroma = bits.ue()
    planes = bool(chroma == 3 and bits.take(1))
    width, height = bits.ue(), bits.ue()
    if bits.take(1):
        left, right, top, bottom = (bits.ue() for _ in range(4))
        width -= (left + right) * (2 if chroma in (1, 2) else 1)
        height -= (top + bottom) * (2 if chroma == 1 else 1)
    bits.ue()
    bits.ue()
    lsb_bits = bits.ue() + 4
    other = Bits(pps[:256])
    other.take(16)
    other.ue()
    other.ue()
    other.take(1)
    output_flag = bool(other.take(1))
    extra = other.take(3)
    return Order(True, lsb_bits, planes=planes, extra_bits=extra, output_flag=output_flag,
                 width=width, height=height)


def _profile(bits: Bits, layers: int) -> None:
    """profile_tier_level (H.265, 7.3.3)."""
    bits.take(88)
    bits.take(8)
    there = [(bits.take(1), bits.take(1)) for _ in range(layers)]
    if layers:
        bits.take(2 * (8 - layers))
    for profile, level in there:
        bits.take(88 * profile + 8 * level)


def order_count(unit: bytes, order: Order) -> tuple[int, bool]:
    """(low bits of the order count, whether it begins anew here) of the picture whose first slice
    is `unit`, with its NAL header."""
    bits = Bits(unit[:64])
    if order.hevc:
        kind = (bits.take(16) >> 9) & 0x3F
        bits.take(1)
        if 16 <= kind <= 23:
            bits.take(1)
        bits.ue()
        bits.take(order.extra_bits)
        bits.ue()
        if order.output_flag:
            bits.take(1)
        if order.planes:
            bits.take(2)
        if kind in (19, 20):
            return 0, True
        return bits.take(order.lsb_bits), 16 <= kind <= 18
    head = bits.take(8)
    instant = head & 0x1F == 5
    bits.ue()
    bits.ue()
    bits.ue()
    if order.planes:
        bits.take(2)
    bits.take(order.frame_bits)
    if order.fields and bits.take(1):
        bits.take(1)
    if instant:
        bits.ue()
    return (bits.take(order.lsb_bits) if order.lsb_bits else 0), instant
