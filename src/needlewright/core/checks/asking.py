"""One question to an isolated decoder, waited for."""

from __future__ import annotations

from typing import TypeVar

from needlewright.core.checks.decoding import DecodeReport, DecodeRequest, DecoderPool
from needlewright.core.stopping import Interrupted, StopSignal

POLL_SECONDS = 0.05

Key = TypeVar("Key")


def ask(pool: DecoderPool[Key], key: Key, request: DecodeRequest,
        stop: StopSignal) -> tuple[Key, DecodeReport]:
    """(key, answer) of `request`; Interrupted when told to stop. Nothing else may be asked of
    `pool` meanwhile."""
    pool.submit(key, request)
    while not stop.is_set():
        for answer in pool.results(POLL_SECONDS):
            return answer
    raise Interrupted
