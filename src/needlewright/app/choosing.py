"""What is chosen: the selected find with all that is known of it, and what is in the tray."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QObject, Signal

from needlewright.app.desk import Desk
from needlewright.app.viewmodels.board import Shown, shown_of
from needlewright.app.viewmodels.rows import Rows
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.pairs import with_partners


class Choosing(QObject):
    """The selection and the tray of the open job; `rows`: what is known of the finds in view."""

    selected = Signal(object)  # id or None
    shown_changed = Signal(object)  # Shown of the selected find, or None
    tray_changed = Signal()  # and it is written

    def __init__(self, desk: Desk, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        self.selection: int | None = None
        self.shown: Shown | None = None  # of the selection, once it was read
        self.rows = Rows(partial(desk.ask, ""), self)

    def forget(self) -> None:
        """Another job: nothing is selected, nothing known."""
        self.selection, self.shown = None, None
        self.rows.forget()
        self.selected.emit(None)
        self.shown_changed.emit(None)

    def select(self, number: int | None) -> None:
        if number != self.selection:
            self.selection = number
            self.selected.emit(number)
            self.show_again()

    def show_again(self) -> None:
        """Read anew what is shown of the selected find."""
        number = self.selection
        if number is None:
            self._shown_came(None, None)
        else:
            self._desk.ask("shown", partial(shown_of, number=number),
                           partial(self._shown_came, number))

    def _shown_came(self, number: int | None, shown: Shown | None) -> None:
        if number == self.selection:
            self.shown = shown
            self.shown_changed.emit(shown)

    def renew(self, ids: object) -> None:
        """What is known of the finds `ids` may be old."""
        assert isinstance(ids, tuple)
        self.rows.renew(ids)
        if self.selection in ids:
            self.show_again()

    # tray

    def toggle_tray(self, ids: list[int]) -> None:
        """Take `ids` out if all are in the tray, else put all in."""
        known = [self.rows.get(number) for number in ids]
        if all(known):
            self.set_tray(ids, not all(row.in_tray for row in known if row is not None))
            return

        def toggle(job: Job) -> list[int]:
            every = all(row.in_tray for row in job.rows(ids))
            return _moved(job, ids, not every)

        self._change_tray(ids, toggle)

    def set_tray(self, ids: list[int], inside: bool) -> None:
        """Put `ids` into the tray or take them out: shown at once, written elsewhere."""
        self.rows.show_in_tray(ids, inside)
        self._change_tray(ids, lambda job: _moved(job, ids, inside))

    def _change_tray(self, ids: list[int], act: Callable[[Job], list[int]]) -> None:
        def told(moved: list[int]) -> None:
            self.renew(tuple(moved))
            self.tray_changed.emit()

        def failed(error: BaseException) -> None:
            self.renew(tuple(ids))
            self._desk.tell_problem(error)

        self._desk.tell(act, told, failed)


def _moved(job: Job, ids: list[int], inside: bool) -> list[int]:
    """Put finds into the tray or take them out, a still with its clip; all that were meant."""
    every = with_partners(job, ids)
    (job.reviews.put_in_tray if inside else job.reviews.take_from_tray)(every)
    return every
