"""The rows of the finds in view: a bounded number, fetched by whoever can wait for them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from needlewright.core.jobfile.rows import FindRow
from needlewright.core.jobfile.store import Job

KEPT = 4000
Fetch = Callable[[Callable[[Job], list[FindRow]], Callable[[list[FindRow]], None]], None]


class Rows(QObject):
    """What is known stays on show until something newer has come, so that nothing flickers."""

    came = Signal()

    def __init__(self, fetch: Fetch, parent: QObject | None = None) -> None:
        """`fetch` runs a question with the open job and hands the answer over."""
        super().__init__(parent)
        self._fetch = fetch
        self._kept: dict[int, FindRow] = {}
        self._fresh: set[int] = set()

    def get(self, number: int) -> FindRow | None:
        return self._kept.get(number)

    def want(self, ids: Sequence[int]) -> None:
        """Fetch those of `ids` that are unknown or may be old; `came` when they have come."""
        missing = [number for number in ids if number not in self._fresh]
        if missing:
            self._fresh.update(missing)
            self._fetch(lambda job: job.rows(missing), self._take)

    def _take(self, rows: list[FindRow]) -> None:
        if len(self._kept) > KEPT:
            self._kept.clear()
            self._fresh = {row.id for row in rows}
        self._kept.update((row.id, row) for row in rows)
        self.came.emit()

    def renew(self, ids: Iterable[int] | None = None) -> None:
        """What is known of `ids`, or of all, may be old: fetched again when it is asked for."""
        if ids is None:
            self._fresh.clear()
        else:
            self._fresh.difference_update(ids)
        self.came.emit()

    def forget(self) -> None:
        """Another job: nothing is known."""
        self._kept.clear()
        self._fresh.clear()
        self.came.emit()

    def show_in_tray(self, ids: Iterable[int], inside: bool) -> None:
        """Show the tray's mark at once; what was written is fetched later."""
        for number in ids:
            row = self._kept.get(number)
            if row is not None and (not inside or row.grade != "gone"):
                self._kept[number] = replace(row, in_tray=inside)
        self.came.emit()
