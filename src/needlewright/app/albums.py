"""Albums that are known by name, looked for again and again."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from needlewright.core.shelves.albums.known import Known, known_albums

LOOK_MS = 2000


class Albums(QObject):
    """`known`: the albums, by name."""

    changed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.known: list[Known] = []
        timer = QTimer(self)
        timer.timeout.connect(self.look)
        timer.start(LOOK_MS)
        self.look()

    def look(self) -> None:
        """Look which there are."""
        known = known_albums()
        if known != self.known:
            self.known = known
            self.changed.emit()
