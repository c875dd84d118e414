"""Thumbnails for the sheet: read and decoded in background threads, a bounded number kept."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal
from PySide6.QtGui import QImage, QPainter, QPixmap

from needlewright.app.courtesy import at_work
from needlewright.core.jobfile.folder import thumbnail_path

KEPT = 400
AT_ONCE = 24  # pictures that are taken over before the window's thread may do something else
WAITING = 200  # more than any view shows: whoever scrolls on no longer waits for the older ones


class _Load(QRunnable):
    """Loads what is wanted, the newest first, until nothing is."""

    def __init__(self, owner: Thumbnails) -> None:
        super().__init__()
        self._owner = owner

    def run(self) -> None:
        while (wanted := self._owner.wanted()) is not None:
            self._owner.arrive(*wanted, QImage(str(thumbnail_path(*wanted))))


class Thumbnails(QObject):
    """`get` gives a pixmap or None and then fetches it; `ready` tells which have come.

    They are told many at a time: each time the window's thread is woken it waits for the
    interpreter, which a search uses as well.
    """

    loaded = Signal()
    ready = Signal(object)  # frozenset of numbers

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder: Path | None = None
        self._kept: OrderedDict[int, QPixmap] = OrderedDict()
        self._asked: set[int] = set()
        self._wanted: list[tuple[Path, int]] = []
        self._lock = threading.Lock()  # of what is wanted, and of whether somebody loads
        self._loading = False
        self._arrived: deque[tuple[Path, int, QImage]] = deque()
        self._told = False
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self.loaded.connect(self._take, Qt.ConnectionType.QueuedConnection)

    def open(self, folder: Path | None) -> None:
        self._folder = folder
        with self._lock:
            self._wanted.clear()
        self._kept.clear()
        self._asked.clear()

    def get(self, number: int) -> QPixmap | None:
        found = self._kept.get(number)
        if found is not None:
            self._kept.move_to_end(number)
            return found
        if self._folder is not None and number not in self._asked:
            self._want(self._folder, number)
        return None

    def _want(self, folder: Path, number: int) -> None:
        with self._lock:
            if len(self._asked) >= WAITING:
                self._wanted.clear()
                self._asked.clear()
            self._asked.add(number)
            self._wanted.append((folder, number))
            begin, self._loading = not self._loading, True
        if begin:
            self._pool.start(_Load(self))

    def wanted(self) -> tuple[Path, int] | None:
        """What is to be loaded next; asked by the loading thread, which ends where nothing is."""
        with self._lock:
            if self._wanted:
                return self._wanted.pop()
            self._loading = False
            return None

    def forget(self, ids: Iterable[int]) -> None:
        """Load these anew when they are wanted next."""
        for number in ids:
            self._kept.pop(number, None)

    def arrive(self, folder: Path, number: int, image: QImage) -> None:
        """A picture is there; called in the loading thread."""
        self._arrived.append((folder, number, image))
        if not self._told:
            self._told = True
            self.loaded.emit()

    @at_work
    def _take(self) -> None:
        self._told = False  # before looking: what comes meanwhile tells of itself
        came = set()
        for _ in range(min(AT_ONCE, len(self._arrived))):
            folder, number, image = self._arrived.popleft()
            if folder == self._folder:
                self._asked.discard(number)
                self._kept[number] = QPixmap.fromImage(image)
                came.add(number)
        while len(self._kept) > KEPT:
            self._kept.popitem(last=False)
        if self._arrived and not self._told:
            self._told = True
            self.loaded.emit()
        if came:
            self.ready.emit(frozenset(came))

    def end(self) -> None:
        with self._lock:
            self._wanted.clear()
        self._pool.waitForDone()


def draw_fitted(painter: QPainter, picture: QPixmap, x: int, y: int, wide: int,
                high: int) -> None:
    """Draw all of a picture, as large as it fits into a box and in its middle."""
    size = picture.size().scaled(wide, high, Qt.AspectRatioMode.KeepAspectRatio)
    painter.drawPixmap(x + (wide - size.width()) // 2, y + (high - size.height()) // 2,
                       size.width(), size.height(), picture)
