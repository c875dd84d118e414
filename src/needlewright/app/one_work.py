"""Work in a thread of its own, of which there is one at a time."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import Work


class OneWork(QObject):
    """Starts a Work, and ends it with the program. `problem`: why it failed, in words."""

    changed = Signal()
    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work: Work | None = None

    @property
    def busy(self) -> bool:
        return self._work is not None

    def start(self, work: Work) -> None:
        """Begin `work`; nothing may be under way."""
        work.failed.connect(self.problem)
        work.finished.connect(self._over)
        self._work = work
        work.start()
        self.changed.emit()

    def end(self) -> None:
        """Stop and wait, for closing."""
        work, self._work = self._work, None
        if work is not None:
            work.blockSignals(True)
            work.end()
            work.deleteLater()
            self.changed.emit()

    def came_to_its_end(self) -> None:
        """Called when it ended without being stopped."""

    def _over(self) -> None:
        work, self._work = self._work, None
        if work is not None:
            stopped = work.stop_signal.is_set()
            work.deleteLater()
            self.changed.emit()
            if not stopped:
                self.came_to_its_end()
