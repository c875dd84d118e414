"""Where a bare JPEG XL codestream ends (ISO/IEC 18181-1:2024, annexes D to F): headers and frame
tables only.

Bits are packed from the least significant on. Codestreams with an entropy-coded ICC profile, or a
permuted table of sections, are recognised and not followed; most encoders write neither unasked.
"""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MAX_FRAMES = 10_000
MAX_LAYERS = 64  # frames of a picture that is not animated
MAX_SECTIONS = 2_000_000
MAX_HEADER_BITS = 1 << 20
RATIOS = ((1, 1), (12, 10), (4, 3), (3, 2), (16, 9), (5, 4), (2, 1))
REGULAR, LF, REFERENCE, SKIP = range(4)
REPLACE, BLEND, MULADD, MULTIPLY = 0, 2, 3, 4
USE_LF_FRAME = 32
SIZES = ((9, 1), (13, 1), (18, 1), (30, 1))
CROPS = ((8, 0), (11, 256), (14, 2304), (30, 18688))
SECTIONS = ((10, 0), (14, 1024), (22, 17408), (30, 4211712))
ENUM = ((0, 0), (0, 1), (4, 2), (6, 18))
NAME = ((0, 0), (4, 0), (5, 16), (10, 48))
POWERS = ((0, 1), (0, 2), (0, 4), (0, 8))


class _Bits:
    """A reader of bits from absolute byte `at` on."""

    def __init__(self, view: View, at: int) -> None:
        self._view, self._at = view, at
        self._bit = 0

    def take(self, count: int) -> int:
        if self._bit > MAX_HEADER_BITS:
            raise FormatError("header-without-end", offset=self._at)
        first, last = self._bit >> 3, (self._bit + count + 7) >> 3
        raw = self._view.take(self._at + first, max(1, last - first)) if count else b"\0"
        value = int.from_bytes(raw, "little") >> (self._bit & 7)
        self._bit += count
        return value & ((1 << count) - 1)

    def flag(self) -> bool:
        return self.take(1) == 1

    def choice(self, forms: tuple[tuple[int, int], ...]) -> int:
        """U32 (18181-1, B.2.2): one of four (bits, offset) forms."""
        bits, offset = forms[self.take(2)]
        return self.take(bits) + offset

    def long(self) -> int:
        """U64 (B.2.3)."""
        kind = self.take(2)
        if kind < 2:
            return self.take(4) + 1 if kind else 0
        if kind == 2:
            return self.take(8) + 17
        value, shift = self.take(12), 12
        while self.flag():
            if shift == 60:
                return value | self.take(4) << shift
            value |= self.take(8) << shift
            shift += 8
        return value

    def halves(self, count: int) -> None:
        for _ in range(count):
            self.take(16)

    def extensions(self) -> None:
        chosen = self.long()
        sizes = [self.long() for bit in range(64) if chosen >> bit & 1]
        for size in sizes:
            if size > MAX_HEADER_BITS:
                raise FormatError("header-without-end", offset=self._at)
            self.take(size)

    def aligned(self) -> int:
        """The absolute byte where the next whole byte begins."""
        self._bit = (self._bit + 7) & ~7
        return self._at + (self._bit >> 3)


@dataclass(slots=True)
class Image:
    """What the image header says, as far as frames need it."""

    width: int
    height: int
    extra: int = 0
    xyb: bool = True
    animated: bool = False
    timecodes: bool = False
    preview: tuple[int, int] | None = None


def _size(bits: _Bits) -> tuple[int, int]:
    small = bits.flag()

    def one() -> int:
        return (bits.take(5) + 1) * 8 if small else bits.choice(SIZES)

    height, ratio = one(), bits.take(3)
    if ratio == 0:
        return one(), height
    over, under = RATIOS[ratio - 1]
    return height * over // under, height


def _preview(bits: _Bits) -> tuple[int, int]:
    eighths = bits.flag()

    def one() -> int:
        if eighths:
            return 8 * bits.choice(((0, 16), (0, 32), (5, 1), (9, 33)))
        return bits.choice(((6, 1), (8, 65), (10, 321), (12, 1345)))

    height, ratio = one(), bits.take(3)
    if ratio == 0:
        return one(), height
    over, under = RATIOS[ratio - 1]
    return height * over // under, height


def _depth(bits: _Bits) -> None:
    if bits.flag():
        bits.choice(((0, 32), (0, 16), (0, 24), (6, 1)))
        bits.take(4)
    else:
        bits.choice(((0, 8), (0, 10), (0, 12), (6, 1)))


def _extra_channel(bits: _Bits) -> None:
    if bits.flag():
        return
    kind = bits.choice(ENUM)
    _depth(bits)
    bits.choice(((0, 0), (0, 3), (0, 4), (3, 1)))
    bits.take(8 * bits.choice(NAME))
    if kind == 0:
        bits.flag()
    elif kind == 2:
        bits.halves(4)
    elif kind == 5:
        bits.choice(((0, 1), (2, 0), (4, 3), (8, 19)))


def _colour(bits: _Bits) -> bool:
    """Read a colour encoding; whether an ICC profile follows."""
    if bits.flag():
        return False
    profile, space = bits.flag(), bits.choice(ENUM)
    if profile:
        return True
    xy = ((19, 0), (19, 524288), (20, 1048576), (21, 2097152))
    if space != 2:
        if bits.choice(ENUM) == 2:  # a white point of its own
            for _ in range(2):
                bits.choice(xy)
        if space != 1 and bits.choice(ENUM) == 2:
            for _ in range(6):
                bits.choice(xy)
        if bits.flag():
            bits.take(24)
        else:
            bits.choice(ENUM)
    bits.choice(ENUM)
    return False


def _image(bits: _Bits, at: int) -> Image:
    image = Image(*_size(bits))
    profile = False
    if not bits.flag():
        more = bits.flag()
        if more:
            bits.take(3)
            if bits.flag():
                _size(bits)
            if bits.flag():
                image.preview = _preview(bits)
            image.animated = bits.flag()
            if image.animated:
                bits.choice(((0, 100), (0, 1000), (10, 1), (30, 1)))
                bits.choice(((0, 1), (0, 1001), (8, 1), (10, 1)))
                bits.choice(((0, 0), (3, 0), (16, 0), (32, 0)))
                image.timecodes = bits.flag()
        _depth(bits)
        bits.flag()
        image.extra = bits.choice(((0, 0), (0, 1), (4, 2), (12, 1)))
        for _ in range(image.extra):
            _extra_channel(bits)
        image.xyb = bits.flag()
        profile = _colour(bits)
        if more and not bits.flag():
            bits.halves(2)
            bits.flag()
            bits.halves(1)
        bits.extensions()
    if not bits.flag():  # transform data of its own
        if image.xyb and not bits.flag():
            bits.halves(16)
        mask = bits.take(3)
        bits.halves((15 if mask & 1 else 0) + (55 if mask & 2 else 0) + (210 if mask & 4 else 0))
    if profile:
        raise FormatError("coded-profile", offset=at)
    return image


@dataclass(slots=True)
class _Frame:
    kind: int = REGULAR
    modular: bool = False
    passes: int = 1
    last: bool = True
    upsampling: int = 1
    group_shift: int = 1
    level: int = 0
    width: int = 0
    height: int = 0

    def sections(self) -> int:
        """Entries of the frame's table (F.3.3)."""
        scale = self.upsampling << (3 * self.level)
        wide, high = -(-self.width // scale), -(-self.height // scale)
        side = 128 << self.group_shift
        groups = -(-wide // side) * -(-high // side)
        coarse = -(-wide // (side * 8)) * -(-high // (side * 8))
        return 1 if groups == 1 and self.passes == 1 else 2 + coarse + groups * self.passes


def _blending(bits: _Bits, image: Image, partial: bool) -> int:
    mode = bits.choice(((0, 0), (0, 1), (0, 2), (2, 3)))
    weighted = image.extra > 0 and mode in (BLEND, MULADD)
    if weighted:
        bits.choice(((0, 0), (0, 1), (0, 2), (3, 3)))
    if weighted or mode == MULTIPLY:
        bits.flag()
    if mode != REPLACE or partial:
        bits.take(2)
    return mode


def _passes(bits: _Bits) -> int:
    passes = bits.choice(((0, 1), (0, 2), (0, 3), (3, 4)))
    if passes != 1:
        steps = bits.choice(((0, 0), (0, 1), (0, 2), (1, 3)))
        for _ in range(passes - 1):
            bits.take(2)
        for _ in range(steps):
            bits.choice(POWERS)
        for _ in range(steps):
            bits.choice(((0, 0), (0, 1), (0, 2), (3, 0)))
    return passes


def _filters(bits: _Bits, modular: bool) -> None:
    if bits.flag():
        return
    if bits.flag() and bits.flag():
        bits.halves(6)
    if bits.take(2):
        if not modular and bits.flag():
            bits.halves(8)
        if bits.flag():
            bits.halves(5)
        if bits.flag():
            bits.halves((0 if modular else 1) + 3)
        if modular:
            bits.halves(1)
    bits.extensions()


def _frame(bits: _Bits, image: Image, size: tuple[int, int]) -> _Frame:
    frame = _Frame(width=size[0], height=size[1])
    if bits.flag():
        return frame
    frame.kind, frame.modular = bits.take(2), bits.flag()
    flags = bits.long()
    other = not image.xyb and bits.flag()
    own_lf = not flags & USE_LF_FRAME
    if other and own_lf:
        bits.take(6)
    if own_lf:
        frame.upsampling = bits.choice(POWERS)
        for _ in range(image.extra):
            bits.choice(POWERS)
    if frame.modular:
        frame.group_shift = bits.take(2)
    elif image.xyb:
        bits.take(6)
    if frame.kind != REFERENCE:
        frame.passes = _passes(bits)
    if frame.kind == LF:
        frame.level = bits.take(2) + 1
    partial = False
    if frame.kind != LF and bits.flag():
        left = top = 0
        if frame.kind != REFERENCE:
            left, top = bits.choice(CROPS), bits.choice(CROPS)
        frame.width, frame.height = bits.choice(CROPS), bits.choice(CROPS)
        partial = bool(left or top) or frame.width < image.width or frame.height < image.height
    mode, duration = REPLACE, 0
    if frame.kind in (REGULAR, SKIP):
        mode = _blending(bits, image, partial)
        for _ in range(image.extra):
            _blending(bits, image, partial)
        if image.animated:
            duration = bits.choice(((0, 0), (0, 1), (8, 0), (32, 0)))
            if image.timecodes:
                bits.take(32)
        frame.last = bits.flag()
    else:
        frame.last = False
    saved = bits.take(2) if frame.kind != LF and not frame.last else 0
    referable = not frame.last and frame.kind != LF and (duration == 0 or saved != 0)
    if frame.kind == REFERENCE or (
            referable and mode == REPLACE and not partial and frame.kind in (REGULAR, SKIP)):
        bits.flag()
    bits.take(8 * bits.choice(NAME))
    _filters(bits, frame.modular)
    bits.extensions()
    return frame


def _after_frame(view: View, at: int, image: Image, size: tuple[int, int]) -> tuple[int, bool]:
    """(place behind the frame at `at`, whether it is the last)."""
    bits = _Bits(view, at)
    frame = _frame(bits, image, size)
    count = frame.sections()
    if count > MAX_SECTIONS:
        raise FormatError("too-many-sections", offset=at)
    if bits.flag():
        raise FormatError("permuted-sections", offset=at)
    bits = _Bits(view, bits.aligned())
    total = sum(bits.choice(SECTIONS) for _ in range(count))
    end = bits.aligned() + total
    if end > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    return end, frame.last


def read_image(view: View, at: int) -> tuple[Image, int]:
    """(image header of the codestream at `at`, place of its first frame); FormatError if none."""
    if view.take(at, 2) != b"\xff\x0a":
        raise FormatError("no-codestream", offset=at)
    bits = _Bits(view, at + 2)
    image = _image(bits, at)
    if not 0 < image.width <= 1 << 30 or not 0 < image.height <= 1 << 30:
        raise FormatError("picture-without-size", offset=at)
    return image, bits.aligned()


def codestream_end(view: View, image: Image, at: int) -> tuple[int, int]:
    """(place behind the last frame, frames) of the frames from `at` on."""
    if image.preview is not None:
        at, _ = _after_frame(view, at, image, image.preview)
    for count in range(1, MAX_FRAMES if image.animated else MAX_LAYERS):
        at, last = _after_frame(view, at, image, (image.width, image.height))
        if last:
            return at, count
    raise FormatError("too-many-frames", offset=at)
