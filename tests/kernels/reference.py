"""Plain versions of the kernels, sharing no code with them."""

from __future__ import annotations


def find_signatures(data: bytes, step: int,
                    signatures: list[tuple[bytes, int]]) -> list[tuple[int, int]]:
    return [(start, index)
            for start in range(0, len(data), step)
            for index, (magic, at) in enumerate(signatures)
            if data[start + at : start + at + len(magic)] == magic]


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
