"""What was just spoken with stays open for a while: whoever wants it next goes on in its session,
and with its list, instead of asking a slow device for everything again.
"""

from __future__ import annotations

import atexit
import threading
from typing import Protocol

KEPT_SECONDS = 30.0  # many devices speak with one computer at a time: others must have their turn


class Kept(Protocol):
    """Something that is open."""

    def end(self) -> None:
        """Close it for good."""


_kept: dict[str, tuple[Kept, threading.Timer]] = {}
_lock = threading.Lock()


def keep(address: str, thing: Kept) -> None:
    """Keep what is open at `address` until somebody takes it, or its time is over."""
    timer = threading.Timer(KEPT_SECONDS, _over, (address, thing))
    timer.daemon = True
    with _lock:  # in one go, or of two at once the first would stay open for good
        before, counted = _kept.get(address, (None, None))
        _kept[address] = thing, timer
    timer.start()
    if counted is not None:
        counted.cancel()
    if before is not None and before is not thing:
        before.end()


def take(address: str) -> Kept | None:
    """What is open at `address`, which is the caller's from now on; None where nothing is."""
    with _lock:
        thing, timer = _kept.pop(address, (None, None))
    if timer is not None:
        timer.cancel()
    return thing


def let_go(address: str) -> None:
    """Close what is kept at `address`, as another is about to speak with it."""
    thing = take(address)
    if thing is not None:
        thing.end()


def _over(address: str, thing: Kept) -> None:
    with _lock:
        mine = _kept.get(address, (None, None))[0] is thing
        if mine:
            del _kept[address]
    if mine:
        thing.end()


@atexit.register
def let_all_go() -> None:
    """Close everything that is kept."""
    for address in list(_kept):
        let_go(address)
