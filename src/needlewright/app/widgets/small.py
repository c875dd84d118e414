"""Small helpers that every station uses: labels with a role, links, cards, layouts."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QBoxLayout,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

LEAST_BUTTON = 40  # pixels
LONGEST_RUN = 20  # letters without a place to break a line
LONG_RUN = re.compile(rf"\S{{{LONGEST_RUN + 1},}}")


def label(text: str = "", role: str = "", name: str = "", wrap: bool = False) -> QLabel:
    """A label; `role` picks its style, `name` its object name."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    if name:
        made.setObjectName(name)
    made.setWordWrap(wrap)
    return made


def button(text: str, name: str, act: Callable[[], object] | None = None,
           role: str = "") -> QPushButton:
    """A push button; roles: main, link, row."""
    made = QPushButton(text)
    made.setObjectName(name)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    if role:
        made.setProperty("role", role)
    if act is not None:
        made.clicked.connect(lambda *_: act())
    return made


class FittingButton(QPushButton):
    """A button in a narrow place: its text is shortened to the room there is, and whole in its
    tooltip."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.whole = text
        # A button of itself is never narrower than its hint.
        self.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        hint, metrics = super().sizeHint(), self.fontMetrics()
        extra = hint.width() - metrics.horizontalAdvance(self.text())
        return QSize(metrics.horizontalAdvance(self.whole) + extra, hint.height())

    def minimumSizeHint(self) -> QSize:
        return QSize(LEAST_BUTTON, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        metrics = self.fontMetrics()
        room = self.width() - (super().sizeHint().width() - metrics.horizontalAdvance(self.text()))
        fits = metrics.horizontalAdvance(self.whole) <= room
        text = self.whole if fits else metrics.elidedText(
            self.whole, Qt.TextElideMode.ElideMiddle, room)
        if text != self.text():
            self.setText(text)
        if not fits:
            self.setToolTip(self.whole)
        elif self.toolTip() == self.whole:
            self.setToolTip("")
        super().resizeEvent(event)


def link(text: str, name: str, act: Callable[[], object]) -> FittingButton:
    """A link for a narrow place."""
    made = FittingButton(text)
    made.setObjectName(name)
    made.setAccessibleName(text)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.setProperty("role", "link")
    made.clicked.connect(lambda *_: act())
    return made


def breakable(text: str) -> str:
    """`text` with places to break a line in runs of letters that are longer than a narrow column,
    such as names of files."""
    return LONG_RUN.sub(lambda run: "\u200b".join(
        run.group()[at : at + LONGEST_RUN] for at in range(0, len(run.group()), LONGEST_RUN)), text)


def card(name: str = "card") -> tuple[QFrame, QVBoxLayout]:
    """A rounded panel and its layout."""
    frame = QFrame()
    frame.setObjectName(name)
    inside = QVBoxLayout(frame)
    inside.setContentsMargins(16, 12, 16, 12)
    inside.setSpacing(4)
    return frame, inside


def column(parent: QWidget | None = None, margins: tuple[int, int, int, int] = (24, 16, 24, 16),
           spacing: int = 8) -> QVBoxLayout:
    made = QVBoxLayout(parent) if parent is not None else QVBoxLayout()
    made.setContentsMargins(*margins)
    made.setSpacing(spacing)
    return made


def line(*things: QWidget | QLayout | int | None, spacing: int = 16) -> QHBoxLayout:
    """A row of widgets; an int is fixed space, None stretches."""
    made = QHBoxLayout()
    made.setContentsMargins(0, 0, 0, 0)
    made.setSpacing(spacing)
    fill(made, *things)
    return made


def fill(layout: QBoxLayout, *things: QWidget | QLayout | int | None) -> None:
    for thing in things:
        if thing is None:
            layout.addStretch(1)
        elif isinstance(thing, int):
            layout.addSpacing(thing)
        elif isinstance(thing, QLayout):
            layout.addLayout(thing)
        else:
            layout.addWidget(thing)


class _Content(QWidget):
    """What scrolls: as high as it must be at its width, not as at its narrowest."""

    def minimumSizeHint(self) -> QSize:
        return QSize(super().minimumSizeHint().width(), 1)


def scrolling(inside: QLayout, name: str) -> QScrollArea:
    """`inside` in an area that scrolls up and down where it is too long."""
    content = _Content()
    content.setObjectName("station")
    content.setLayout(inside)
    area = QScrollArea()
    area.setObjectName(name)
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(content)
    return area


def clear(layout: QLayout) -> None:
    """Remove everything from a layout, now and not later: it is about to be filled again."""
    while layout.count():
        item = layout.takeAt(0)
        if item is None:
            break
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.setParent(None)
            widget.deleteLater()
        elif inner is not None:
            clear(inner)
            inner.deleteLater()


def restyle(widget: QWidget) -> None:
    """Apply the style sheet again after a property changed."""
    widget.style().unpolish(widget)
    widget.style().polish(widget)
