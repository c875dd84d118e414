"""The look in force: colours, text scale, fonts and the style sheet made from them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QApplication

from needlewright.app.theme.colours import DARK, LIGHT, Colours

ASSETS = Path(__file__).resolve().parents[1] / "assets"
BODY = 13  # pixels at scale 1.0
SCALES = (0.9, 1.0, 1.15, 1.3, 1.5)


class Look(QObject):
    """One per application; widgets that paint themselves ask it and repaint on `changed`."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.colours: Colours = LIGHT
        self.scale = 1.0
        self.family = "Lato"

    def load_fonts(self) -> None:
        """Load the shipped fonts; the offscreen platform has no others."""
        for path in sorted((ASSETS / "fonts").glob("*.ttf")):
            number = QFontDatabase.addApplicationFont(str(path))
            families = QFontDatabase.applicationFontFamilies(number)
            if families:
                self.family = families[0]

    def apply(self, dark: bool, scale: float | None = None) -> None:
        self.colours = DARK if dark else LIGHT
        self.scale = scale or self.scale
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        application.setFont(self.font())
        application.setStyleSheet(style_sheet(self.colours, self.scale))
        self.changed.emit()

    @property
    def dark(self) -> bool:
        return self.colours is DARK

    def px(self, value: float) -> int:
        """A length that grows with the text."""
        return round(value * self.scale)

    def font(self, size: float = BODY, bold: bool = False) -> QFont:
        font = QFont(self.family)
        font.setPixelSize(self.px(size))
        font.setBold(bold)
        return font

    def colour(self, name: str) -> QColor:
        return QColor(getattr(self.colours, name))

    def faint(self, name: str, alpha: int) -> QColor:
        colour = self.colour(name)
        colour.setAlpha(alpha)
        return colour


look = Look()


def icon() -> QIcon:
    """The program's own mark: a thread through a needle's eye, sewn across a torn edge."""
    made = QIcon()
    for size in (16, 24, 32, 48, 64, 128, 256):
        made.addPixmap(_draw_icon(size))
    return made


def _draw_icon(size: int) -> QPixmap:
    picture = QPixmap(size, size)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(size / 64, size / 64)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(LIGHT.thread))
    painter.drawRoundedRect(2, 2, 60, 60, 14, 14)
    pen = QPen(QColor(LIGHT.panel), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap)
    painter.setPen(pen)
    painter.drawLine(12, 46, 52, 18)
    pen.setWidth(4)
    painter.setPen(pen)
    for x, y in ((20, 30), (31, 23), (34, 42), (45, 34)):
        painter.drawLine(x - 3, y - 4, x + 3, y + 5)
    painter.end()
    return picture


def style_sheet(c: Colours, scale: float) -> str:
    """The style sheet for a look; every length in pixels grows with the text."""
    def px(value: float) -> str:
        return f"{round(value * scale)}px"

    return f"""
* {{ font-size: {px(BODY)}; color: {c.ink}; outline: none; }}
QMainWindow, QDialog, QWidget#station {{ background: {c.ground}; }}
QWidget#panel, QWidget#panel QWidget#inside, QScrollArea#panel {{ background: {c.panel}; }}
QWidget#dossier {{ background: {c.panel}; border-left: 1px solid {c.line}; }}
QWidget#bar {{ background: {c.panel}; border-bottom: 1px solid {c.line}; }}
QWidget#activity {{ background: {c.panel}; border-top: 1px solid {c.line}; }}
QScrollArea, QAbstractScrollArea {{ background: transparent; border: none; }}
QLabel {{ background: transparent; }}
QLabel[role="head"] {{ font-size: {px(16)}; font-weight: bold; }}
QLabel[role="title"] {{ font-size: {px(16)}; font-weight: bold; }}
QLabel[role="sub"] {{ font-weight: bold; }}
QLabel[role="muted"] {{ color: {c.muted}; }}
QLabel[role="small"] {{ color: {c.muted}; font-size: {px(12)}; }}
QLabel[role="figure"] {{ font-size: {px(19)}; }}
QLabel[role="problem"] {{ color: {c.ochre}; }}
QFrame#card {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 8px; }}
QFrame#card[chosen="true"] {{ border: 2px solid {c.thread}; }}
QFrame#notice {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 8px; }}
QFrame#notice[role="problem"] {{ border-color: {c.ochre}; }}
QPushButton {{ background: {c.panel}; color: {c.thread}; border: 1px solid {c.thread};
  border-radius: 7px; padding: {px(6)} {px(18)}; }}
QPushButton:hover {{ background: {c.ground}; }}
QPushButton:focus {{ border: 2px solid {c.thread}; padding: {px(5)} {px(17)}; }}
QPushButton:disabled {{ color: {c.muted}; border-color: {c.line}; }}
QPushButton[role="main"] {{ background: {c.thread}; color: {c.on_thread}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {c.ink}; }}
QPushButton[role="main"]:disabled {{ background: {c.line}; color: {c.muted};
  border-color: {c.line}; }}
QPushButton[role="link"] {{ border: none; border-radius: 0px; background: transparent;
  padding: {px(3)} {px(2)}; text-align: left; }}
QPushButton[role="link"]:hover {{ text-decoration: underline; }}
QPushButton[role="link"]:focus {{ border-bottom: 2px solid {c.thread};
  padding: {px(3)} {px(2)} {px(1)} {px(2)}; }}
QPushButton[role="link"]:checked {{ font-weight: bold; color: {c.ink}; }}
QPushButton[role="link"]:disabled {{ color: {c.muted}; }}
QPushButton[role="row"] {{ border: none; border-radius: 0px; background: transparent;
  text-align: left; padding: {px(4)} 0px; }}
QPushButton[role="row"]:hover {{ text-decoration: underline; }}
QPushButton[role="row"]:focus {{ border-bottom: 2px solid {c.thread};
  padding: {px(4)} 0px {px(2)} 0px; }}
QLineEdit {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 8px;
  padding: {px(6)} {px(10)}; selection-background-color: {c.thread};
  selection-color: {c.on_thread}; }}
QLineEdit:focus {{ border: 2px solid {c.thread}; padding: {px(5)} {px(9)}; }}
QMenu {{ background: {c.panel}; color: {c.ink}; border: 1px solid {c.line}; padding: 4px; }}
QMenu::item {{ padding: {px(4)} {px(14)}; }}
QMenu::item:selected {{ background: {c.thread}; color: {c.on_thread}; }}
QPlainTextEdit {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 8px; }}
QToolTip {{ background: {c.panel}; color: {c.ink}; border: 1px solid {c.line}; padding: 4px; }}
QTableView {{ background: {c.panel}; border: none; }}
QTableView::item {{ padding: 0px {px(8)}; }}
QTableView::item:selected {{ background: {c.ground}; color: {c.ink}; }}
QHeaderView, QHeaderView::section {{ background: {c.panel}; color: {c.muted}; border: none; }}
QHeaderView::section {{ border-bottom: 1px solid {c.line}; padding: {px(6)} {px(8)}; }}
QScrollBar:vertical {{ background: transparent; width: 12px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 12px; margin: 0; }}
QScrollBar::handle {{ background: {c.muted}; border-radius: 4px; min-height: 36px;
  min-width: 36px; margin: 2px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
"""
