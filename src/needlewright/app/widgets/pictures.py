"""Thumbnails for the sheet: read and decoded in background threads, a bounded number kept."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal
from PySide6.QtGui import QImage, QPixmap

from needlewright.core.jobs.folder import thumbnail_path

KEPT = 400
WAITING = 200  # more than any view shows: whoever scrolls on no longer waits for the older ones


class _Load(QRunnable):
    def __init__(self, owner: Thumbnails, folder: Path, number: int) -> None:
        super().__init__()
        self._owner, self._folder, self._number = owner, folder, number

    def run(self) -> None:
        image = QImage(str(thumbnail_path(self._folder, self._number)))
        self._owner.loaded.emit(str(self._folder), self._number, image)


class Thumbnails(QObject):
    """`get` gives a pixmap or None and then fetches it; `ready` tells when it has come."""

    loaded = Signal(str, int, QImage)
    ready = Signal(int)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder: Path | None = None
        self._kept: OrderedDict[int, QPixmap] = OrderedDict()
        self._asked: set[int] = set()
        self._turn = 0
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self.loaded.connect(self._take)

    def open(self, folder: Path | None) -> None:
        self._folder = folder
        self._pool.clear()
        self._kept.clear()
        self._asked.clear()

    def get(self, number: int) -> QPixmap | None:
        found = self._kept.get(number)
        if found is not None:
            self._kept.move_to_end(number)
            return found
        if self._folder is not None and number not in self._asked:
            if len(self._asked) >= WAITING:
                self._pool.clear()
                self._asked.clear()
            self._asked.add(number)
            self._turn += 1
            self._pool.start(_Load(self, self._folder, number), self._turn)  # newest first
        return None

    def forget(self, ids: Iterable[int]) -> None:
        """Load these anew when they are wanted next."""
        for number in ids:
            self._kept.pop(number, None)

    def _take(self, folder: str, number: int, image: QImage) -> None:
        if self._folder is None or folder != str(self._folder):
            return
        self._asked.discard(number)
        self._kept[number] = QPixmap.fromImage(image)
        while len(self._kept) > KEPT:
            self._kept.popitem(last=False)
        self.ready.emit(number)

    def end(self) -> None:
        self._pool.clear()
        self._pool.waitForDone()
