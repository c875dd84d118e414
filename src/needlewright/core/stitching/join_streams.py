"""Registers the streams of packets; see `stream_line` and `stream_grammars`."""

from __future__ import annotations

import numpy as np

from needlewright.core.kernels.texture import Texture
from needlewright.core.stitching.base import Bench, Broken, Joined, Joiner, register
from needlewright.core.stitching.chained.stream_grammars import (
    Adts,
    Mpeg,
    Program,
    Speech,
    Transport,
)
from needlewright.core.stitching.chained.stream_line import Grammar, State, StreamLine
from needlewright.core.stitching.line_hand import LineHand
from needlewright.core.stitching.solver import Solver, textures

LIKE = textures(*Texture)
WIDE = b"#!AMR-WB"


def _grammar(form: str, head: bytes) -> Grammar:
    if form in ("ts", "m2ts"):
        return Transport(188 if form == "ts" else 192)
    if form == "amr":
        return Speech(head.startswith(WIDE))
    if form == "mpg":
        return Program()
    return Adts() if form == "aac" else Mpeg()


def _begun(broken: Broken, bench: Bench) -> tuple[StreamLine, int, State, int | None] | None:
    """(line, first cluster, how it stands behind it, end); None where no stream begins there."""
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or not 0 <= first < pool.count:
        return None
    raw = pool.read(np.array([first]))[0]
    grammar = _grammar(broken.format, raw[:16].tobytes())
    begin = grammar.begin(raw.tobytes())
    if begin is None:
        return None
    stated = broken.stated or _stated(broken.format, raw.tobytes(), begin)
    line = StreamLine(grammar, pool.unit, stated)
    step = line.take(State(begin, b"", None, 0), raw)
    return None if step.refused else (line, first, step.state, step.end)


def _stated(form: str, data: bytes, begin: int) -> int | None:
    """Bytes of a file of MPEG audio, where the information frame of its encoder says how many."""
    head = data[begin : begin + 192]
    place = max(head.find(b"Xing"), head.find(b"Info"))
    if form != "mp3" or not 4 <= place <= 40 or len(head) < place + 16:
        return None
    flags = head[place + 7]
    at = place + 8 + (4 if flags & 1 else 0)
    length = int.from_bytes(head[at : at + 4], "big") if flags & 2 else 0
    return begin + length if length > 0 else None


def _join(broken: Broken, bench: Bench) -> Joined | None:
    begun = _begun(broken, bench)
    if begun is None:
        return None
    line, first, state, end = begun
    return Solver(line, bench, LIKE).solve([first], state, end)


def _by_hand(broken: Broken, bench: Bench) -> LineHand | None:
    begun = _begun(broken, bench)
    if begun is None:
        return None
    line, first, state, end = begun
    return LineHand(line, bench, LIKE, (first,), state, end, by_rows=False)


register(Joiner("streams", frozenset(("ts", "m2ts", "mpg", "aac", "mp3", "amr")), _join,
                order=-1, endless=True, by_hand=_by_hand))
