"""The dossier of the selected find: picture, origin, facts, checks, extents, parts."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRect, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QGridLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.board import Shown
from needlewright.app.widgets.clip_strip import damaged_seconds, paint_strip
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.pictures import Thumbnails
from needlewright.app.widgets.small import breakable, clear, column, fill, label, line, link
from needlewright.app.widgets.stitch import Stitch
from needlewright.app.widgets.versions import Versions
from needlewright.core.checks.grading import Grade
from needlewright.core.jobfile.rows import BYTES, FindRecord
from needlewright.core.walks import Outcome, Part
from needlewright.wording import changes as change_words
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import mending as mending_words
from needlewright.wording import seams as seam_words
from needlewright.wording import shelves as shelf_words
from needlewright.wording import units
from needlewright.wording import window as words

WIDTH = 350
MAX_PARTS = 7
SEAMS_SHOWN = 6


class Picture(QWidget):
    """A picture fitted into its width, on the ground that pictures have."""

    def __init__(self) -> None:
        super().__init__()
        self._pixmap = QPixmap()
        self.setFixedHeight(look.px(212))

    def show_pixmap(self, pixmap: QPixmap | None) -> None:
        self._pixmap = pixmap or QPixmap()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), look.colour("pictures"))
        if not self._pixmap.isNull():
            size = self._pixmap.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
            place = QRect(0, 0, size.width(), size.height())
            place.moveCenter(self.rect().center())
            painter.drawPixmap(place, self._pixmap)
        painter.end()


class Parts(QWidget):
    """The named pieces of a file as a strip, wide ones wider."""

    def __init__(self, parts: tuple[Part, ...]) -> None:
        super().__init__()
        self._parts = parts[:MAX_PARTS]
        self.setFixedHeight(look.px(26))
        self.setToolTip("\n".join(
            f"{p.name}: {units.size(p.stop - p.start)} at byte {p.start:,}" for p in parts))

    def sizeHint(self) -> QSize:
        return QSize(280, look.px(26))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(look.font(12))
        metrics = painter.fontMetrics()
        least = [metrics.horizontalAdvance(p.name) + 12 for p in self._parts]
        spare = max(0, self.width() - sum(least) - 1)
        total = sum(max(1, p.stop - p.start) for p in self._parts) or 1
        x = 0.0
        for part, width in zip(self._parts, least):
            wide = width + spare * max(1, part.stop - part.start) / total
            box = QRect(round(x), 0, round(wide) - 2, self.height() - 1)
            painter.setPen(QPen(look.colour("line"), 1))
            painter.setBrush(look.colour("ground"))
            painter.drawRect(box)
            painter.setPen(look.colour("muted"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, metrics.elidedText(
                part.name, Qt.TextElideMode.ElideRight, box.width() - 4))
            x += wide
        painter.end()


class StripView(QWidget):
    """A clip's ten frames in a row, to be looked at."""

    def __init__(self, frames: QPixmap, all_s: float, damaged: list[tuple[float, float]]) -> None:
        super().__init__()
        self.setObjectName("dossierStrip")
        self._frames, self._all_s, self._damaged = frames, all_s, damaged
        self.setFixedHeight(look.px(30))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        paint_strip(painter, QRectF(self.rect()), self._frames, self._all_s, self._damaged, None)
        painter.end()


def _damaged(record: FindRecord) -> list[tuple[float, float]]:
    return [d for c in record.checks for d in damaged_seconds(dict(c.values))]


class Dossier(QScrollArea):
    """Follows the session's selection."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._session, self._thumbnails = session, thumbnails
        self._picture = Picture()
        self._shown: Shown | None = None
        inside = QWidget()
        inside.setObjectName("inside")
        outer = column(inside, (16, 16, 16, 16))
        self._picture_box = self._picture
        self._content = QVBoxLayout()
        self._content.setSpacing(6)
        fill(outer, self._picture, self._content, None)
        self.setWidget(inside)
        # bound methods: Qt lets go of them with the widget, of a lambda only with the session
        session.choice.shown_changed.connect(self.show_find)
        thumbnails.ready.connect(self._thumbnail_came)
        look.changed.connect(self._show_again)
        self.show_find(None)

    def show_find(self, shown: object) -> None:
        """Show a Shown, or that nothing is selected."""
        self._shown = shown if isinstance(shown, Shown) else None
        clear(self._content)
        self._picture.setVisible(self._shown is not None)
        if self._shown is None:
            self._content.addWidget(label(words.DOSSIER_EMPTY, "muted", wrap=True))
            return
        self._picture.show_pixmap(self._thumbnails.get(self._shown.record.row.id))
        self._fill(self._shown)
        for text in self.findChildren(QLabel):
            if text.wordWrap():  # no word makes the whole column wider than its place
                text.setMinimumWidth(1)
                text.setText(breakable(text.text()))

    def _show_again(self) -> None:
        self.show_find(self._shown)

    def _thumbnail_came(self, numbers: frozenset[int]) -> None:
        if self._shown is not None and self._shown.record.row.id in numbers:
            self._picture.show_pixmap(self._thumbnails.get(self._shown.record.row.id))

    def _fill(self, shown: Shown) -> None:
        record, row = shown.record, shown.record.row
        stitch = Stitch(row.grade, row.share)
        title = label(find_words.title(row), "title", "dossierTitle", wrap=True)
        head = line(title, stitch, spacing=8)
        head.setStretch(0, 1)
        self._content.addLayout(head)
        if row.has_strip:
            self._content.addWidget(StripView(self._session.strip(row.id), row.duration_s or 0.0,
                                              _damaged(record)))
        self._content.addWidget(label(
            check_words.grade_line(row.grade, row.share, record.checks, row.kind), "muted",
            "dossierGrade", wrap=True))
        self._content.addSpacing(4)
        self._content.addWidget(label(
            find_words.origin(record, shown.source.name if shown.source else "?"), wrap=True))
        if row.grade != Grade.GONE:  # of which there is nothing to hand over
            tray = words.DOSSIER_OUT if row.in_tray else words.DOSSIER_INTO
            put = link(tray, "dossierTray",
                         lambda: self._session.choice.toggle_tray([row.id]))
            parts: list[QWidget] = [put]
            if row.taken or row.modified:
                last = link(shelf_words.LOSS_AFTER, "dossierLoss",
                            partial(self._session.shelves.lost_after, row.id))
                last.setToolTip(shelf_words.LOSS_AFTER_TIP)
                parts.append(last)
            self._content.addWidget(flow(*parts))
        self._links(shown)
        if row.kept:
            self._content.addWidget(label(find_words.kept(record), wrap=True))
        self._content.addLayout(self._grid(find_words.facts(record)))
        if shown.versions:
            self._head(shelf_words.VERSIONS_HEAD)
            self._content.addWidget(Versions(shown, self._thumbnails,
                                             self._session.choice.select))
        self._head(words.DOSSIER_CHECKS)
        self._content.addLayout(self._checks(record))
        if record.extents:
            self._head(words.DOSSIER_EXTENTS)
            self._content.addLayout(self._grid(find_words.extents(record), muted_first=False))
        if record.seams:
            self._head(words.DOSSIER_SEAMS)
            self._content.addLayout(self._grid([
                (units.size(seam.at), seam_words.told(seam)) for seam in record.seams[:SEAMS_SHOWN]
            ] + ([("", f"+ {len(record.seams) - SEAMS_SHOWN:,}")]
                 if len(record.seams) > SEAMS_SHOWN else []), muted_first=False))
        if record.changes:
            self._head(mending_words.WHAT_CHANGED)
            for change in record.changes:
                told = change_words.change(change)
                self._content.addWidget(label(f"·  {told[:1].upper()}{told[1:]}.", wrap=True))
        self._beside(shown)
        if record.parts:
            self._head(words.DOSSIER_PARTS)
            self._content.addWidget(Parts(record.parts))

    def _links(self, shown: Shown) -> None:
        record = shown.record
        session, number = self._session, record.row.id
        if record.parent is not None:
            self._content.addLayout(line(link(
                words.DOSSIER_INSIDE, "dossierParent",
                partial(session.choice.select, record.parent)), None))
        if record.joined_from is not None:
            self._content.addLayout(line(link(
                words.DOSSIER_JOINED, "dossierJoined",
                partial(session.choice.select, record.joined_from)), None))
        if record.mended_from is not None:
            self._content.addLayout(line(link(
                mending_words.MENDED_FROM, "dossierMended",
                partial(session.choice.select, record.mended_from)), None))
        if shown.partner is not None:
            self._content.addLayout(line(link(
                words.DOSSIER_PARTNER.format(title=find_words.title(shown.partner)),
                "dossierPartner", partial(session.choice.select, shown.partner.id)), None))
        if any(c.code == "frames-not-made" for c in record.checks):
            running = session.frames is not None or session.searching
            frames = link(words.DOSSIER_FRAMES_RUN if running else words.DOSSIER_FRAMES,
                            "dossierFrames", lambda: session.decode_all(number))
            frames.setEnabled(not running)
            self._content.addLayout(line(frames, None))

    def _beside(self, shown: Shown) -> None:
        """Its neighbours on the medium, by name; a click shows them."""
        before, behind = shown.before, shown.behind
        in_line = shown.source is None or shown.source.kind == BYTES
        if not in_line or (before is None and behind is None):
            return
        self._head(words.DOSSIER_BESIDE)
        for name, row in (("dossierBefore", before), ("dossierBehind", behind)):
            if row is not None:
                number = row.id
                text = words.DOSSIER_NEIGHBOUR[name].format(title=find_words.title(row))
                self._content.addLayout(line(link(
                    text, name, partial(self._session.choice.select, number)), None))

    def _head(self, text: str) -> None:
        self._content.addSpacing(8)
        self._content.addWidget(label(text, "sub"))

    def _grid(self, rows: list[tuple[str, str]], muted_first: bool = True) -> QGridLayout:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(4)
        for index, (name, value) in enumerate(rows):
            grid.addWidget(label(name, "muted" if muted_first else ""), index, 0,
                           Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(value, "" if muted_first else "muted", wrap=True), index, 1)
        grid.setColumnMinimumWidth(0, look.px(84))
        grid.setColumnStretch(1, 1)
        return grid

    def _checks(self, record: FindRecord) -> QGridLayout:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(4)
        for index, check in enumerate(record.checks):
            against = check.outcome in (Outcome.FAIL, Outcome.DOUBT)
            role = "problem" if against else "muted"
            outcome = "" if check.outcome is Outcome.PASS else (
                f"{check_words.OUTCOMES[check.outcome]}: ")
            grid.addWidget(label(check.name), index, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(outcome + check_words.reason(check), role, wrap=True), index, 1)
        grid.setColumnMinimumWidth(0, look.px(84))
        grid.setColumnStretch(1, 1)
        return grid
