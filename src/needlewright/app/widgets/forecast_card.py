"""A forecast: a drawn strip of what a medium holds, its intervals, and what follows."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from needlewright.app.copies import Copies
from needlewright.app.theme.look import look
from needlewright.app.widgets.small import clear, fill, label
from needlewright.core.codes import BlockContent
from needlewright.core.imaging.forecast import Forecast
from needlewright.wording import forecast as forecast_words
from needlewright.wording import window as words

COLOURS = {
    BlockContent.BLANK: "line", BlockContent.MEDIA: "thread", BlockContent.STRUCTURED: "muted",
    BlockContent.TEXT: "ink", BlockContent.RANDOM: "ochre",
}


class Strip(QWidget):
    """The shares side by side, in the order of the medium's kinds."""

    def __init__(self, found: Forecast) -> None:
        super().__init__()
        self._shares = [(c, s.part) for c, s in found.shares.items() if s.part > 0]
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(300, look.px(18))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        left = 0.0
        for content, part in self._shares:
            wide = max(3.0, self.width() * part)
            painter.fillRect(QRectF(left, 0, wide - 1.5, self.height()),
                             look.colour(COLOURS[content]))
            left += wide
        painter.end()


class Swatch(QWidget):
    """A little field of a content's colour, beside its name."""

    def __init__(self, content: BlockContent) -> None:
        super().__init__()
        self._content = content
        self.setFixedSize(look.px(12), look.px(12))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), look.colour(COLOURS[self._content]))
        painter.end()


class ForecastCard(QWidget):
    """Shows the newest forecast, or that one is being made; hidden where none was asked for."""

    def __init__(self, copies: Copies) -> None:
        super().__init__()
        self._copies = copies
        self._inside = QVBoxLayout(self)
        self._inside.setContentsMargins(0, 0, 0, 12)
        self._inside.setSpacing(6)
        copies.forecast_changed.connect(self.refresh)
        look.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        copies = self._copies
        clear(self._inside)
        self.setVisible(copies.forecasting is not None or copies.forecast is not None)
        head = label(f"{words.FORECAST_HEAD}: {copies.forecast_name}", "head")
        if copies.forecast is None:
            fill(self._inside, head, label(words.FORECAST_RUNNING, "muted"))
            return
        found = copies.forecast
        fill(self._inside, head, label(forecast_words.summary(found), "muted", "forecastSummary",
                                       wrap=True), 2, Strip(found), self._legend(found))
        for sentence in forecast_words.follows(found):
            self._inside.addWidget(label(sentence, wrap=True))

    @staticmethod
    def _legend(found: Forecast) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        met = sorted(((c, s) for c, s in found.shares.items() if s.part > 0),
                     key=lambda item: -item[1].part)
        for index, ((content, _), (name, share)) in enumerate(zip(
                met, forecast_words.shares(found))):
            row, place = divmod(index, 2)
            grid.addWidget(Swatch(content), row, 3 * place)
            grid.addWidget(label(name), row, 3 * place + 1)
            grid.addWidget(label(share, "muted"), row, 3 * place + 2)
        grid.setColumnStretch(2, 1)
        grid.setColumnStretch(5, 1)
        return grid
