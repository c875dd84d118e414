"""One step of a search: what it does, its tally by kind, how far it is, and its buttons.

They are below each other at every size of text: a table of nine kinds has no room beside them.
"""

from __future__ import annotations

from PySide6.QtCore import Qt

from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.small import button, card, fill, label, line
from needlewright.wording import finds as find_words
from needlewright.wording import inside as inside_words
from needlewright.wording import window as words

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
        figures = flow(*self.tallies.values(), spacing=16)
        fill(inside, line(title, None, self.state), text, figures, self.gauge, self.cost,
             flow(self.look, self.begin, self.pause, self.stop, spacing=8))

    def show_tally(self, kind: str, found: int) -> None:
        """How many of a kind were found, with its name; nothing where there are none."""
        self.tallies[kind].setText(f"{found:,} {find_words.KINDS[kind]}" if found else "")
        self.tallies[kind].setVisible(bool(found))
