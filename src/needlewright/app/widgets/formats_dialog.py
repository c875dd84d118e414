"""Which formats to look for, by kind."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QDialog, QGridLayout, QWidget

from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.core.formats.base import Format
from needlewright.core.formats.registry import formats
from needlewright.wording import finds as find_words
from needlewright.wording import window as words

COLUMNS = 4


class FormatsDialog(QDialog):
    """Ticks for all formats; `chosen` holds the names that are ticked."""

    def __init__(self, chosen: frozenset[str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("formatsDialog")
        self.setWindowTitle(words.FORMATS_HEAD)
        self._ticks: dict[str, QCheckBox] = {}
        outer = column(self)
        fill(outer, label(words.FORMATS_HEAD, "head"),
             label(words.FORMATS_HINT, "muted", wrap=True))
        by_kind: dict[str, list[Format]] = {}
        for form in formats().values():
            by_kind.setdefault(str(form.kind), []).append(form)
        for kind in find_words.KINDS:
            if kind in by_kind:
                fill(outer, 4, label(find_words.KINDS[kind], "sub"), self._grid(by_kind[kind]))
        for name, tick in self._ticks.items():
            tick.setChecked(not chosen or name in chosen)
        use = button(words.FORMATS_USE, "useFormats", self.accept, "main")
        fill(outer, 8, line(
            button(words.FORMATS_ALL, "allFormats", lambda: self._all(True), "link"),
            button(words.FORMATS_NONE, "noFormats", lambda: self._all(False), "link"), None, use))

    def _grid(self, members: list[Format]) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(20)
        grid.setVerticalSpacing(4)
        for index, form in enumerate(members):
            tick = QCheckBox(find_words.format_name(form))
            tick.setObjectName(f"format-{form.name}")
            self._ticks[form.name] = tick
            grid.addWidget(tick, index // COLUMNS, index % COLUMNS)
        for place in range(COLUMNS):
            grid.setColumnStretch(place, 1)
        return grid

    def _all(self, ticked: bool) -> None:
        for tick in self._ticks.values():
            tick.setChecked(ticked)

    @property
    def chosen(self) -> frozenset[str]:
        """Names of the ticked formats; empty where all are."""
        ticked = {name for name, tick in self._ticks.items() if tick.isChecked()}
        return frozenset() if len(ticked) == len(self._ticks) else frozenset(ticked)

    @property
    def nothing(self) -> bool:
        return not any(tick.isChecked() for tick in self._ticks.values())
