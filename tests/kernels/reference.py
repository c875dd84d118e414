"""Plain versions of the kernels, sharing no code with them."""

from __future__ import annotations


def find_signatures(data: bytes, step: int, patterns: list) -> list[tuple[int, int]]:
    found = []
    for start in range(0, len(data), step):
        for index, pattern in enumerate(patterns):
            mask = pattern.mask or b"\xff" * len(pattern.magic)
            part = data[start + pattern.at : start + pattern.at + len(pattern.magic)]
            masked = bytes(b & m for b, m in zip(part, mask))
            wanted = bytes(b & m for b, m in zip(pattern.magic, mask))
            if len(part) == len(mask) and masked == wanted:
                found.append((start, index))
    return found


def unstuff(raw: bytes) -> bytes:
    out, at = bytearray(), 0
    while at < len(raw):
        if raw[at] != 0xFF:
            out.append(raw[at])
            at += 1
        elif raw[at + 1 : at + 2] == b"\0":
            out.append(0xFF)
            at += 2
        elif raw[at + 1 : at + 2] == b"\xff":
            at += 1
        else:
            at += 2
    return bytes(out)


def strongest_run(scores: list[float]) -> float:
    return max((sum(scores[a:b]) for a in range(len(scores)) for b in range(a, len(scores) + 1)),
               default=0.0)


def entry_set_sum(entries: bytes) -> int:
    value = 0
    for at, byte in enumerate(entries):
        if at not in (2, 3):
            value = ((value % 2) * 0x8000 + value // 2 + byte) % 0x10000
    return value


def apart(a: int, b: int) -> int:
    """Distance of two byte values the short way round."""
    return min((a - b) % 256, (b - a) % 256)


def surprise(data: bytes, sector: int, pixel: int, width: int, big: bool, row: int) -> list[float]:
    """Mean distance from the gradient forecast, clamped between neighbours; -1 where none is."""
    means = []
    for start in range(0, len(data), sector):
        begin = max(start, 2 * pixel, row + pixel if row else 0)
        if width > 1:
            while (begin % width) != (0 if big else width - 1):
                begin += 1
        far = []
        for i in range(begin, min(start + sector, len(data)), width):
            left = data[i - pixel]
            if row:
                up, corner = data[i - row], data[i - row - pixel]
                guess = sorted((min(left, up), left + up - corner, max(left, up)))[1]
            else:
                guess = 2 * left - data[i - 2 * pixel]
            far.append(apart(data[i], guess))
        means.append(sum(far) / len(far) if far else -1.0)
    return means


def pitch(data: bytes, sector: int, pixel: int, row: int) -> list[float]:
    """Differences to the row above over those to the left; 0 below twelve steps a sample."""
    found = []
    for start in range(0, len(data), sector):
        places = range(max(start, row + pixel), min(start + sector, len(data)))
        up = sum(abs(data[i] - data[i - row]) for i in places)
        left = sum(abs(data[i] - data[i - pixel]) for i in places)
        found.append(up / (left + len(places)) if places and up > 12 * len(places) else 0.0)
    return found


def gif_codes(raw: bytes) -> int:
    """Where the code size of the first picture of a GIF stands (GIF89a, sections 18 to 22)."""
    at = 13 + (3 << (raw[10] & 7) + 1 if raw[10] & 0x80 else 0)
    while raw[at] == 0x21:
        at += 2
        while raw[at]:
            at += raw[at] + 1
        at += 1
    if raw[at] != 0x2C:
        raise ValueError("no picture")
    return at + 10 + (3 << (raw[at + 9] & 7) + 1 if raw[at + 9] & 0x80 else 0)


def sub_blocks(raw: bytes, at: int) -> bytes:
    """The bytes of the sub-blocks from `at` on, without their lengths."""
    out = bytearray()
    while raw[at]:
        out += raw[at + 1 : at + 1 + raw[at]]
        at += raw[at] + 1
    return bytes(out)


def crc32_ogg(page: bytes) -> int:
    """Bit by bit, polynomial 0x04C11DB7, nothing reflected; the field itself as zero."""
    register = 0
    for byte in page[:22] + bytes(4) + page[26:]:
        register ^= byte << 24
        for _ in range(8):
            register = (register << 1 ^ (0x04C11DB7 if register >> 31 else 0)) & 0xFFFFFFFF
    return register


def foreign_layer_iii_frame(data: bytes) -> int:
    """The first frame of MPEG 1 layer III (from the first byte of `data` on, without CRCs) whose
    sound data would begin inside that of the frame before or end behind its own; -1: none."""
    kbit = (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
    at, room, taken = 0, 0, 0
    while at + 44 <= len(data) and data[at] == 0xFF and data[at + 1] == 0xFB:
        rate = (44_100, 48_000, 32_000)[data[at + 2] >> 2 & 3]
        size = 144_000 * kbit[data[at + 2] >> 4] // rate + (data[at + 2] >> 1 & 1)
        if at + size > len(data):
            break
        mono = data[at + 3] >> 6 == 3
        side = 17 if mono else 32
        told = "".join(f"{byte:08b}" for byte in data[at + 4 : at + 4 + side])
        begin = 8 * (room - int(told[:9], 2))
        first = 9 + (5 + 4 if mono else 3 + 8)
        used = sum(int(told[p : p + 12], 2) for p in range(first, 8 * side, 59))
        if begin < taken or begin + used > 8 * (room + size - 4 - side):
            return at
        room, taken, at = room + size - 4 - side, begin + used, at + size
    return -1
