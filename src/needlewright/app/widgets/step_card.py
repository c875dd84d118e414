"""One step of a search: what it does, its tally by kind, how far it is, and its buttons."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLayout

from needlewright.app.theme.look import look
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.small import button, card, column, fill, label, line
from needlewright.wording import finds as find_words
from needlewright.wording import inside as inside_words
from needlewright.wording import window as words

COLUMN = 82
LARGE = 1.2  # text scale above which things stand below each other
HEAD_INDENT = 4  # what a switch keeps free before its word
LOOKED_INTO = "kept-copies"  # the step of what can be looked into before it is begun


class StepCard:
    """One step: what it does, its tally by kind, how far it is, and its buttons."""

    def __init__(self, name: str, kinds: list[str]) -> None:
        self.name = name
        self.frame, inside = card()
        self.state = label("", "muted", f"state-{name}")
        self.cost = label("", "muted", wrap=True)
        self.gauge = Gauge(250)
        self.tallies = {kind: label("", "figure", f"tally-{name}-{kind}") for kind in kinds}
        self.begin = button(words.SEARCH_BEGIN, f"begin-{name}", None, "main")
        self.look = button(inside_words.LOOK_INSIDE, f"look-{name}", None, "link")
        self.pause = button(words.SEARCH_PAUSE, f"pause-{name}")
        self.stop = button(words.SEARCH_STOP, f"stop-{name}")
        title = label(find_words.STEPS[name].capitalize(), "sub")
        text = label(words.SEARCH_TEXTS[name], "muted", wrap=True)
        for wrapped in (text, self.cost):
            wrapped.setMinimumHeight(1)  # or else as high as its narrowest shape would be
        self.state.setAlignment(Qt.AlignmentFlag.AlignRight)
        if look.scale > LARGE:  # large text has no room for a table
            figures = flow(*self.tallies.values(), spacing=16)
            fill(inside, line(title, None, self.state), text, figures, self.gauge, self.cost,
                 flow(self.look, self.begin, self.pause, self.stop, spacing=8))
            return
        texts = column(margins=(0, 0, 0, 0), spacing=2)
        fill(texts, title, text, self.cost, line(self.look, None))
        row = QHBoxLayout()
        for tally in self.tallies.values():
            tally.setMinimumWidth(look.px(COLUMN))
            tally.setIndent(HEAD_INDENT)
            row.addWidget(tally)
        row.addStretch(1)
        middle = column(margins=(0, 0, 0, 0), spacing=6)
        fill(middle, row, self.gauge)
        right = column(margins=(0, 0, 0, 0), spacing=6)
        right.setAlignment(Qt.AlignmentFlag.AlignRight)
        fill(right, self.state, line(None, self.begin, self.pause, self.stop, spacing=8))
        inside.addLayout(in_columns(texts, middle, right))

    def show_tally(self, kind: str, found: int) -> None:
        """How many of a kind; with its name where no head above says it."""
        text = f"{found:,}" if found else ""
        if found and look.scale > LARGE:
            text = f"{text} {find_words.KINDS[kind]}"
        self.tallies[kind].setText(text)
        self.tallies[kind].setVisible(bool(text) or look.scale <= LARGE)


def in_columns(*parts: QLayout) -> QHBoxLayout:
    """What a step is, its figures and its buttons, with the heads of the figures above them."""
    row = QHBoxLayout()
    for part, stretch in zip(parts, (4, 3, 3)):
        row.addLayout(part, stretch)
    return row
