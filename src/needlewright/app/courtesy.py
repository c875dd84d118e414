"""How threads that compute give way to the window's thread, with which they share an interpreter.

A search asks its stop signal at every block and every find. While the window's thread is at work,
`GivingWay` lets the search wait there for a moment: painting a screen takes the interpreter some
hundred times, and each time it would wait for the search to let go of it.
"""

from __future__ import annotations

import threading
import time

from PySide6.QtCore import QAbstractEventDispatcher

from needlewright.core.stopping import StopSignal

WAIT_S = 0.03  # a search waits for so long at a time
WORK_S = 0.004  # ... and works for so long in between, however much there is to paint

_resting = threading.Event()  # the window's thread waits for something to happen
_resting.set()


def watch(dispatcher: QAbstractEventDispatcher) -> None:
    """Know from now on when the thread of `dispatcher` is at work."""
    dispatcher.aboutToBlock.connect(_resting.set)
    dispatcher.awake.connect(_resting.clear)


class GivingWay:
    """A stop signal that keeps whoever asks it waiting while the window's thread is at work."""

    def __init__(self, stop: StopSignal) -> None:
        self._stop = stop
        self._went_on = 0.0

    def is_set(self) -> bool:
        """Whether to stop; as `threading.Event.is_set`."""
        if not self._stop.is_set() and not _resting.is_set() and (
                time.monotonic() - self._went_on > WORK_S):
            _resting.wait(WAIT_S)
            self._went_on = time.monotonic()
        return self._stop.is_set()
