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
