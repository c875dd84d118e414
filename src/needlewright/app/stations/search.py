"""Search: the plan, its steps, what each found, and what was found just now."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import (
    QFontMetrics,
    QShowEvent,
)
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QWidget,
)

from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.widgets.dossier import WIDTH
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.formats_dialog import FormatsDialog
from needlewright.app.widgets.inside_dialog import InsideDialog
from needlewright.app.widgets.just_found import JustFound
from needlewright.app.widgets.pictures import Thumbnails
from needlewright.app.widgets.small import (
    button,
    column,
    fill,
    label,
    restyle,
    scrolling,
)
from needlewright.app.widgets.step_card import LOOKED_INTO, StepCard
from needlewright.app.widgets.stitch import Stitch
from needlewright.core.formats.registry import formats
from needlewright.core.jobfile.rows import BYTES
from needlewright.core.search.carving import kinds_of
from needlewright.core.search.days import days_of
from needlewright.core.search.events import VolumeSeen
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps, steps_for
from needlewright.core.shelves.wire import PACE
from needlewright.core.sources.shelf import is_distant
from needlewright.core.sources.source import Span
from needlewright.core.walks import Kind
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import phones as phone_words
from needlewright.wording import units
from needlewright.wording import volumes as volume_words
from needlewright.wording import window as words

SERVICES = ("album", "sync")  # kinds of sources that are asked over a network


class Search(QWidget):
    """The steps that exist, and what they found so far."""

    show_find = Signal(int)

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("station")
        self._session = session
        every = {str(kind) for form in formats().values() for kind in kinds_of(form)}
        self._kinds = [kind for kind in find_words.KINDS if kind in every]
        self.formats: frozenset[str] = frozenset()  # empty: all of them
        self.head = label("", "head", "planHead")
        left = column()
        fill(left, self.head, label(words.SEARCH_HINT, "muted", wrap=True), 8, self._kind_row())
        self.cards = {name: StepCard(name, self._kinds) for name in steps()}
        for step in self.cards.values():
            step.begin.clicked.connect(lambda *_, s=step: self.begin(s.name))
            step.pause.clicked.connect(lambda *_: session.pause_search())
            step.stop.clicked.connect(lambda *_: session.stop_search())
            step.look.clicked.connect(lambda *_: self.look_inside())
            left.addWidget(step.frame)
        grades = ("whole", "unproven", "partial", "remnant", "gone")
        self.grades = {g: label("", "", f"grade-tally-{g}") for g in grades}
        self._volumes: list[VolumeSeen] = []
        self._volume: VolumeSeen | None = None  # the one that is the area
        self._where, self._removed, self._how = (
            self._area_row(), self._which_row(), self._how_row())
        fill(left, 4, self._where, self._removed, self._how, 12, self._grade_row(), None)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(scrolling(left, "searchScroll"), 1)
        whole.addWidget(self._just_panel(session, thumbnails))
        # Many signals, one look: and none while another station is on show.
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self.refresh)
        self.inside: InsideDialog | None = None
        for signal in (session.search_changed, session.source_changed, session.finds_changed,
                       session.listings.changed):
            signal.connect(self.changed)
        self.refresh()

    def changed(self) -> None:
        """Something that it shows is new."""
        if self.isVisible():
            self._soon.start()

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def _kind_row(self) -> QWidget:
        self.kind_buttons = {}
        bold = QFontMetrics(look.font(13, True))
        for kind in self._kinds:
            chosen = button(find_words.KINDS[kind], f"kind-{kind}", self._kinds_changed, "link")
            chosen.setCheckable(True)
            chosen.setChecked(True)
            chosen.setMinimumWidth(bold.horizontalAdvance(chosen.text()) + 8)
            self.kind_buttons[kind] = chosen
        return flow(label(words.SEARCH_LOOK_FOR, "muted"), *self.kind_buttons.values())

    def _grade_row(self) -> QWidget:
        parts: list[QWidget] = [label(words.SEARCH_SO_FAR, "muted")]
        for grade, shown in self.grades.items():
            parts += [Stitch(grade, 0.66), shown]
        return flow(*parts)

    def _area_row(self) -> QWidget:
        self.everything = button(words.SEARCH_EVERYTHING, "areaAll", self.refresh, "link")
        self.marked = button(words.SEARCH_MARKED, "areaMarked", self.refresh, "link")
        self.free = button(words.SEARCH_FREE, "areaFree", self.refresh, "link")
        self.one_volume = button(words.SEARCH_VOLUME, "areaVolume", self.choose_volume, "link")
        self._areas = QButtonGroup(self)
        for choice in (self.everything, self.marked, self.free, self.one_volume):
            choice.setCheckable(True)
            self._areas.addButton(choice)
        self.everything.setChecked(True)
        self.area_text = label("", "muted", "areaText")
        return flow(label(words.SEARCH_WHERE, "muted"), self.everything, self.marked, self.free,
                    self.one_volume, self.area_text)

    def _which_row(self) -> QWidget:
        self.all_files = button(words.SEARCH_ALL_FILES, "allFiles", self.refresh, "link")
        self.removed = button(words.SEARCH_REMOVED, "removedOnly", self.refresh, "link")
        self._which = QButtonGroup(self)
        for choice in (self.all_files, self.removed):
            choice.setCheckable(True)
            self._which.addButton(choice)
            choice.setMinimumWidth(QFontMetrics(look.font(13, True)).horizontalAdvance(
                choice.text()) + 8)
        self.all_files.setChecked(True)
        self.missing = button(words.SEARCH_MISSING, "missingOnly", self.refresh, "link")
        self.missing.setCheckable(True)
        self.missing.setMinimumWidth(QFontMetrics(look.font(13, True)).horizontalAdvance(
            self.missing.text()) + 8)
        self.folder = QLineEdit()
        self.folder.setObjectName("onlyFolder")
        self.folder.setPlaceholderText(words.SEARCH_FOLDER)
        self.folder.setClearButtonEnabled(True)
        self.folder.setMinimumWidth(look.px(260))
        self.days = QLineEdit()
        self.days.setObjectName("onlyDays")
        self.days.setPlaceholderText(words.SEARCH_DAYS)
        self.days.setMinimumWidth(look.px(300))
        self.pace = QLineEdit()
        self.pace.setObjectName("noFaster")
        self.pace.setPlaceholderText(words.SEARCH_PACE)
        self.pace.setMinimumWidth(look.px(230))
        return flow(label(words.SEARCH_WHICH, "muted"), self.all_files, self.removed, self.missing,
                    self.folder, self.days, self.pace)

    def choose_volume(self) -> None:
        """Let one of the volumes be the area."""
        menu = QMenu(self)
        titles = {menu.addAction(volume_words.title(row.kind, row.label, row.size)): row
                  for row in self._volumes}
        below = self.one_volume.mapToGlobal(self.one_volume.rect().bottomLeft())
        self.use_volume(titles.get(menu.exec(below), self._volume))

    def use_volume(self, row: VolumeSeen | None) -> None:
        """Search in this volume; None: in everything."""
        self._volume = row
        self.one_volume.setText(words.SEARCH_VOLUME if row is None else volume_words.title(
            row.kind, row.label, row.size))
        (self.everything if row is None else self.one_volume).setChecked(True)
        self.refresh()

    def _show_volumes(self) -> None:
        """Offer the volumes that are known, where there is more to choose than everything."""
        source = self._session.source
        self._volumes = list(self._session.board.volumes.get(source.id, ())) if source else []
        self.one_volume.setVisible(len(self._volumes) > 1)
        self.free.setEnabled(any(row.used_bytes is not None for row in self._volumes))
        if not self.free.isEnabled() and self.free.isChecked():
            self.everything.setChecked(True)
        if self._volume is not None and all(r.start != self._volume.start for r in self._volumes):
            self.use_volume(None)

    def _how_row(self) -> QWidget:
        self.at_sectors = button(words.SEARCH_SECTORS, "atSectors", self.refresh, "link")
        self.at_bytes = button(words.SEARCH_BYTES, "atBytes", self.refresh, "link")
        self._ways = QButtonGroup(self)
        for way in (self.at_sectors, self.at_bytes):
            way.setCheckable(True)
            self._ways.addButton(way)
        self.at_sectors.setChecked(True)
        self.frames = button(words.SEARCH_FRAMES, "everyFrame", self.refresh, "link")
        self.frames.setCheckable(True)
        self.frames.setChecked(True)
        self.choose = button(words.SEARCH_FORMATS, "chooseFormats", self.choose_formats, "link")
        self.formats_text = label("", "muted", "formatsText")
        for choice in (self.at_sectors, self.at_bytes, self.frames):
            choice.setMinimumWidth(QFontMetrics(look.font(13, True)).horizontalAdvance(
                choice.text()) + 8)  # chosen ones are bold, and wider
        return flow(label(words.SEARCH_HOW, "muted"), self.at_sectors, self.at_bytes, self.frames,
                    self.choose, self.formats_text)

    def choose_formats(self) -> None:
        """Let the formats be ticked; a running search goes on with what was chosen."""
        dialog = FormatsDialog(self.formats, self)
        if dialog.exec() and not dialog.nothing:
            self.use_formats(dialog.chosen)

    def use_formats(self, chosen: frozenset[str]) -> None:
        if chosen != self.formats:
            self.formats = chosen
            self._session.change_search(self.plan("signatures"))
        self.refresh()

    def _just_panel(self, session: Session, thumbnails: Thumbnails) -> QWidget:
        panel = QWidget()
        panel.setObjectName("dossier")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        panel.setFixedWidth(look.px(WIDTH))
        self.just = JustFound(session, thumbnails)
        self.just.opened.connect(self.show_find)
        self.just_hint = label(words.SEARCH_JUST_HINT, "muted", wrap=True)
        inside = column(panel, (16, 16, 16, 16))
        fill(inside, label(words.SEARCH_JUST, "title"), self.just_hint, 4)
        inside.addWidget(self.just, 1)
        return panel

    # state

    def take_choices(self, other: Search) -> None:
        """Choose what `other` has chosen."""
        for kind, chosen in self.kind_buttons.items():
            chosen.setChecked(other.kind_buttons[kind].isChecked())
        for name in ("everything", "marked", "free", "at_sectors", "at_bytes", "frames",
                     "all_files", "removed", "missing"):
            getattr(self, name).setChecked(getattr(other, name).isChecked())
        self.folder.setText(other.folder.text())
        self.formats = other.formats
        if other.one_volume.isChecked():
            self.use_volume(other._volume)
        self.refresh()

    def area(self) -> Span | None:
        if self.marked.isChecked() and self._session.marked is not None:
            return Span(*self._session.marked)
        if self.one_volume.isChecked() and self._volume is not None:
            return Span(self._volume.start, self._volume.start + self._volume.size)
        return None

    def plan(self, step: str) -> Plan:
        """What the switches ask for."""
        chosen = {Kind(k) for k, b in self.kind_buttons.items() if b.isChecked()}
        kinds = frozenset() if len(chosen) == len(self._kinds) else frozenset(chosen)
        return Plan((step,), kinds, self.area(), formats=self.formats,
                    every_byte=self.at_bytes.isChecked(), every_frame=self.frames.isChecked(),
                    removed_only=self.removed.isChecked() and step != "signatures",
                    free_only=self.free.isChecked() and step == "signatures",
                    folder="" if step == "signatures" else self.folder.text().strip().strip("/"),
                    days=days_of(self.days.text()) if step == LOOKED_INTO else None,
                    missing_only=self.missing.isChecked() and step == LOOKED_INTO)

    def begin(self, step: str) -> None:
        try:
            PACE.most = float(self.pace.text().replace(",", ".") or 0) * 1e6 or None
        except ValueError:
            self._session.problem.emit(words.SEARCH_PACE_WRONG.format(text=self.pace.text()))
            return
        try:
            self._session.begin_search(self.plan(step))
        except ValueError:
            self._session.problem.emit(words.SEARCH_DAYS_WRONG.format(text=self.days.text()))

    def look_inside(self) -> None:
        """Show what a phone offers, and let it be chosen what of it is brought."""
        source = self._session.source
        if source is None:
            return
        if self.inside is not None:
            self.inside.deleteLater()
        self.inside = InsideDialog(self._session.listings, source.path, self,
                                   self._session.board.folder)
        self.inside.wanted.connect(self._bring)
        self.inside.open()

    def _bring(self, keys: frozenset[str]) -> None:
        self._session.begin_search(Plan((LOOKED_INTO,), keys=keys))

    def _kinds_changed(self) -> None:
        if any(b.isChecked() for b in self.kind_buttons.values()):
            self._session.change_search(self.plan("signatures"))
        self.refresh()

    def refresh(self) -> None:
        session = self._session
        source, board = session.source, session.board
        self.head.setText(words.SEARCH_PLAN.format(source=source.name) if source
                          else words.SEARCH_PLAN_NONE)
        in_line = source is None or source.kind == BYTES
        for row in (self._where, self._how):
            row.setVisible(in_line)
        distant = source is not None and is_distant(source.kind)
        self.days.setVisible(distant)
        self.missing.setVisible(distant)
        self.pace.setVisible(source is not None and source.kind in SERVICES)
        self._removed.setVisible(in_line or distant)
        self.marked.setEnabled(session.marked is not None)
        if session.marked is None and self.marked.isChecked():
            self.everything.setChecked(True)
        self._show_volumes()
        area = self.area()
        count = len(formats())
        self.formats_text.setText(
            words.SEARCH_FORMATS_SOME.format(some=len(self.formats), count=count) if self.formats
            else words.SEARCH_FORMATS_ALL.format(count=count))
        self.area_text.setText(units.stretch(area.start, area.stop) if area else "")
        tally = board.tally
        states = {row.step: row for row in board.steps if source and row.source == source.id}
        for grade, label_ in self.grades.items():
            number = sum(t.finds for t in tally if t.grade == grade)
            label_.setText(f"{number:,} {check_words.GRADES[grade]}")
        suitable = steps_for(source.kind if source else BYTES)
        for name, step in self.cards.items():
            step.frame.setVisible(name in suitable)
            for kind in step.tallies:
                found = sum(t.finds for t in tally if t.step == name and t.kind == kind)
                step.show_tally(kind, found)
            self._show_step(step, states.get(name))
        self._fill_next(states)
        self.just.show_rows(board.just)
        self.just_hint.setText(words.SEARCH_JUST_HINT if board.just else words.SEARCH_JUST_EMPTY)

    def _show_step(self, step: StepCard, state: object) -> None:
        session = self._session
        running = session.search if session.step_running == step.name else None
        waiting = step.name in session.steps_waiting
        ending = getattr(state, "ending", "")
        if running is not None:
            text = words.SEARCH_STATES["paused" if running.paused else "searching"]
            progress = session.progress
            part = progress.done / max(1, progress.total) if progress else 0.0
        else:
            said = ending if ending != "done" else getattr(state, "state", "") or ending
            text = words.SEARCH_NEXT if waiting else words.SEARCH_STATES.get(said, "")
            span = getattr(state, "area_stop", 0) - getattr(state, "area_start", 0)
            reached = getattr(state, "checkpoint", 0) - getattr(state, "area_start", 0)
            part = 1.0 if ending == "done" else reached / max(1, span)
        step.state.setText(text if session.source else words.SEARCH_NO_SOURCE)
        step.gauge.show_part(part)
        some_kind = any(b.isChecked() for b in self.kind_buttons.values())
        step.begin.setEnabled(session.source is not None and some_kind)
        step.begin.setText(words.SEARCH_AGAIN if ending == "done" else (
            words.SEARCH_GO_ON if ending in ("stopped", "running", "failed")
            else words.SEARCH_BEGIN))
        step.begin.setVisible(running is None and not waiting)
        step.look.setVisible(step.name == LOOKED_INTO and running is None)
        step.look.setEnabled(not session.searching and not session.listings.busy)
        step.pause.setVisible(running is not None)
        step.stop.setVisible(running is not None)
        if running is not None:
            step.pause.setText(words.SEARCH_CONTINUE if running.paused else words.SEARCH_PAUSE)
        _choose(step.frame, running is not None)
        progress = session.progress if running is not None else None
        left = progress.seconds_left if progress is not None else None
        step.cost.setText(
            phone_words.AWAY[progress.away] if progress is not None and progress.away else
            f"{units.duration(left)} left" if left is not None else self._cost(step.name))

    def _fill_next(self, states: Mapping[str, object]) -> None:
        """Only the next sensible thing is a filled button: the first step that is not done."""
        done = {name for name, state in states.items() if getattr(state, "ending", "") == "done"}
        following = next((name for name, card in self.cards.items()
                          if name not in done and not card.frame.isHidden()), None)
        for name, step in self.cards.items():
            role = "main" if name == following and not self._session.searching else ""
            if step.begin.property("role") != role:
                step.begin.setProperty("role", role)
                restyle(step.begin)

    def _cost(self, step: str) -> str:
        """What a step costs, before it is begun."""
        area, source = self.area(), self._session.source
        size = area.size if area else (source.size if source else 0)
        if not size:
            return ""
        if step == "signatures" and self.free.isChecked():
            free = sum(v.size - v.used_bytes for v in self._volumes if v.used_bytes is not None)
            return words.SEARCH_COST_FREE.format(size=units.size(free))
        return words.SEARCH_COSTS.get(step, "{size}").format(size=units.size(size))


def _choose(frame: QFrame, chosen: bool) -> None:
    if frame.property("chosen") != chosen:
        frame.setProperty("chosen", chosen)
        restyle(frame)


