"""Intake: what this job works on, and how to begin."""

from __future__ import annotations

import getpass
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QShowEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QMessageBox,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.backups_card import BackupsCard
from needlewright.app.widgets.copy_card import CopyCard
from needlewright.app.widgets.dossier import WIDTH
from needlewright.app.widgets.effort_dialog import EffortDialog
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.forecast_card import ForecastCard
from needlewright.app.widgets.phone_card import PhoneCard
from needlewright.app.widgets.small import (
    button,
    card,
    clear,
    column,
    fill,
    label,
    line,
    scrolling,
)
from needlewright.core.jobfile.rows import BYTES, SourceRow
from needlewright.core.jobs.copying import IMAGES
from needlewright.core.phones.addresses import NAMED, is_address
from needlewright.core.search.events import VolumeSeen
from needlewright.core.search.examining import are_files
from needlewright.core.shelves.albums.known import SCHEME as ALBUM
from needlewright.core.shelves.backups.base import SCHEME as BACKUP
from needlewright.core.shelves.open_dav import SCHEMES as DAV
from needlewright.core.sources.devices import Device
from needlewright.core.sources.open_folder import place_of
from needlewright.wording import errors, units
from needlewright.wording import phones as phone_words
from needlewright.wording import shelves as shelf_words
from needlewright.wording import volumes as volume_words
from needlewright.wording import window as words

SHELVES = (ALBUM, BACKUP, *DAV)  # how addresses begin of what is taken in as it is
SHORT_PATH = 28  # letters of a job's folder beside its title


class Intake(QWidget):
    """Sources on the left, how to begin and recent jobs in the middle, the source's facts right."""

    to_search = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("station")
        self.setAcceptDrops(True)
        self._session = session
        self.sources, self.begin, self.facts = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for layout in (self.sources, self.begin, self.facts):
            layout.setSpacing(8)
        left, middle = column(margins=(24, 16, 8, 16)), column(margins=(8, 16, 24, 16))
        fill(left, label(words.INTAKE_SOURCES, "head"),
             label(words.INTAKE_ONLY_READ, "muted", wrap=True), 8, self.sources)
        self.open_button = button(words.INTAKE_OPEN, "openImage", self.choose_image, "link")
        self.open_job_button = button(words.INTAKE_OPEN_JOB, "openJob", self.choose_job, "link")
        fill(left, line(self.open_button, label(words.INTAKE_OPEN_KEY, "small"), None,
                        spacing=8),
             flow(button(words.INTAKE_FOLDER, "openFolder", self.choose_folder, "link"),
                  button(words.INTAKE_FILES, "openFiles", self.choose_files, "link")),
             flow(button(words.INTAKE_BACKUP_FILE, "openBackupFile", self.choose_backup, "link"),
                  button(words.INTAKE_BACKUPS, "findBackups", self.choose_backups, "link")),
             line(button(words.INTAKE_ADDRESS, "openAddress", self.open_address, "link"), None),
             line(button(words.EFFORT_LINK, "setEffort", self.ask_effort, "link"), None),
             line(self.open_job_button, None), None)
        self.copy_card = CopyCard(
            session.copies, lambda: session.begin_copy(session.copies.spec), self.ask_effort)
        self.forecast_card = ForecastCard(session.copies)
        self.phone_card = PhoneCard(session.phones, session.listings, session.open_phone,
                                    session.copy_raw)
        self.backups_card = BackupsCard(session.shelves.backups, self.take_in,
                                        session.shelves.keep_loss,
                                        lambda: {row.path for row in session.board.sources})
        session.job_changed.connect(self.backups_card.refresh)
        session.source_changed.connect(self.backups_card.refresh)
        session.phones.changed.connect(self.changed)
        session.shelves.albums.changed.connect(self.changed)
        session.shelves.backups.changed.connect(self._backups_changed)
        self._backups_shown = False
        session.listings.changed.connect(self._listing_changed)
        self._listing = ""
        fill(middle, self.phone_card, self.backups_card, self.forecast_card, self.copy_card,
             self.begin, None)
        panel = QWidget()
        panel.setObjectName("dossier")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        panel.setFixedWidth(look.px(WIDTH))
        fill(column(panel, (16, 16, 16, 16)), self.facts, None)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(24)
        whole.addWidget(scrolling(left, "sourceList"), 1)
        whole.addWidget(scrolling(middle, "beginList"), 1)
        whole.addWidget(panel)
        self.demo_gauge, self.demo_text = Gauge(110), label("", "muted", "demoProgress")
        self.demo_button: QPushButton | None = None
        for signal in (session.job_changed, session.source_changed,
                       session.copies.devices_changed):
            signal.connect(self.changed)
        session.finds.volumes_answered.connect(self._volumes_came)
        self._volumes: list[VolumeSeen] = []
        self._volumes_box = QVBoxLayout()
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self.refresh)
        session.copies.changed.connect(self._copy_changed)
        self._copying = False
        session.demo.changed.connect(self._show_demo)
        self.refresh()

    def changed(self) -> None:
        """Something that it shows is new: looked at once, however much tells of it."""
        if self.isVisible():
            self._soon.start()

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    # content

    def refresh(self) -> None:
        clear(self.sources)
        rows = self._session.board.sources
        for row in rows:
            self.sources.addWidget(self._source_card(row))
        self._show_devices()
        clear(self.begin)
        self.demo_button = None
        watched = bool(self._session.phones.watched or self._session.listings.spec
                       or self._session.shelves.backups.places)
        if not rows and self._session.copies.work is None and not watched:
            frame, inside = card()
            fill(inside, label(words.INTAKE_FIRST, "sub"),
                 label(words.INTAKE_FIRST_TEXT, "muted", wrap=True), 4,
                 line(button(words.INTAKE_OPEN, "openFirst", self.choose_image, "main"), None))
            self.begin.addWidget(frame)
        self._show_recent()
        if self._session.copies.work is None and not watched:  # the copy needs the room
            self._add_demo()
        self._show_facts()

    def _listing_changed(self) -> None:
        """It tells ten times a second how far it is, which changes nothing here."""
        if self._listing != self._session.listings.spec:
            self._listing = self._session.listings.spec
            self.refresh()

    def _backups_changed(self) -> None:
        if self._backups_shown != bool(self._session.shelves.backups.places):
            self._backups_shown = not self._backups_shown
            self.refresh()

    def _copy_changed(self) -> None:
        running = self._session.copies.work is not None
        if running != self._copying:
            self._copying = running
            self.refresh()

    def _show_devices(self) -> None:
        devices = self._session.copies.devices
        if devices:
            self.sources.addWidget(label(words.INTAKE_ATTACHED, "sub"))
        for device in devices:
            frame, inside = card()
            copy = button(words.INTAKE_COPY, f"copy-{device.name}",
                          partial(self._copy_device, device))
            copy.setEnabled(device.may_read and self._session.copies.work is None)
            name = label(device.model or device.path, "sub")
            name.setMinimumWidth(40)
            fill(inside, line(name, None,
                              self._forecast_button(device.path, device.may_read), copy),
                 label(words.device_about(device), "muted", wrap=True))
            if not device.may_read:
                reason = errors.sentence("device-denied", {
                    "path": device.path, "user": getpass.getuser()})
                inside.addWidget(label(reason, "problem", wrap=True))
            self.sources.addWidget(frame)
        self._show_phones()

    def _show_phones(self) -> None:
        """The phones that are known by name."""
        phones = self._session.phones
        taken = {row.path for row in self._session.board.sources}
        for known in phones.known:
            spec = f"{NAMED}{known.name}"
            if spec in taken:
                continue
            frame, inside = card()
            look_at = button(phone_words.LOOK_AT, f"phone-{known.name}",
                             partial(phones.watch, spec))
            look_at.setEnabled(phones.watched != spec)
            name = label(known.name, "sub", wrap=True)
            name.setMinimumWidth(40)
            fill(inside, line(name, look_at), label(spec, "muted", wrap=True))
            self.sources.addWidget(frame)
        for album in self._session.shelves.albums.known:
            spec = f"{ALBUM}{album.name}"
            if spec in taken:
                continue
            frame, inside = card()
            take = button(shelf_words.TAKE_IN, f"album-{album.name}", partial(self.take_in, spec))
            take.setEnabled(not self._session.listings.busy)
            name = label(album.name, "sub", wrap=True)
            name.setMinimumWidth(40)
            head = line(name, take)
            head.setStretch(0, 1)
            fill(inside, head,
                 label(shelf_words.album_about(album.user), "muted", wrap=True))
            self.sources.addWidget(frame)

    def take_in(self, spec: str) -> None:
        """Take a backup, an album or a synchronised folder into the job, once it is listed."""
        self._session.open_phone(spec)

    def _forecast_button(self, spec: str, enabled: bool = True) -> QPushButton:
        made = button(words.FORECAST_HEAD, "forecast",
                      lambda: self._session.copies.begin_forecast(spec), "link")
        made.setEnabled(enabled)
        return made

    def _copy_device(self, device: Device) -> None:
        """Copy a device; one that is mounted for writing only after a clear yes."""
        mounts = [mount for volume in device.mounted for mount in volume.mounts]
        if mounts:
            text = words.COPY_MOUNTED_ASK.format(device=device.path, mounts=" ".join(mounts))
            answer = QMessageBox.question(self, words.INTAKE_COPY, text)
            if answer is not QMessageBox.StandardButton.Yes:
                return
        self._session.begin_copy(device.path, bool(mounts))

    def ask_effort(self) -> None:
        copies = self._session.copies
        EffortDialog(copies.plan, self._session.marked, copies.use, self).open()

    def open_address(self) -> None:
        text, given = QInputDialog.getText(self, words.INTAKE_ADDRESS, words.INTAKE_ADDRESS_ASK)
        spec = text.strip()
        if given and is_address(spec):
            self._session.phones.watch(spec)
        elif given and spec.startswith(SHELVES):
            self.take_in(spec)
        elif given and spec:
            self._session.begin_copy(spec)

    def _source_card(self, row: SourceRow) -> QWidget:
        frame, inside = card()
        chosen = self._session.source is not None and self._session.source.id == row.id
        frame.setProperty("chosen", chosen)
        copies = self._session.copies
        used = words.INTAKE_USED
        if copied_here(row.path, self._session.board.folder):
            being = copies.work is not None and row == self._session.source
            used = words.INTAKE_BEING_COPIED if being else words.INTAKE_COPIED
        fill(inside, line(label(row.name, "sub"), None, label(used, "muted")),
             label(_about(row), "muted"))
        frame.mousePressEvent = (  # type: ignore[method-assign]
            lambda _: self._session.choose_source(row.id))
        return frame

    def _show_recent(self) -> None:
        if self.begin.count() or self.copy_card.isVisibleTo(self):
            self.begin.addSpacing(12)
        self.begin.addWidget(label(words.INTAKE_RECENT, "head"))
        recent = self._session.settings.recent_jobs()
        if not recent:
            self.begin.addWidget(label(words.INTAKE_NO_RECENT, "muted"))
        for index, (folder, title) in enumerate(recent):
            row = button(title, f"recent{index}",
                         partial(self._session.open_job, Path(folder)), "row")
            row.setToolTip(folder)
            where = label(_shortened(folder), "small")
            fill(self.begin, line(row, None, where))

    def _add_demo(self) -> None:
        self.begin.addSpacing(8)
        frame, inside = card()
        self.demo_gauge, self.demo_text = Gauge(110), label("", "muted", "demoProgress")
        self.demo_button = button(words.INTAKE_DEMO, "openDemo", self._session.demo.open_card)
        fill(inside, label(words.INTAKE_DEMO_TEXT, "muted", wrap=True), 4,
             line(self.demo_button, self.demo_gauge, self.demo_text, None, spacing=12), 4,
             label(words.INTAKE_DROWNED_TEXT, "muted", wrap=True),
             line(button(words.INTAKE_DROWNED, "openDrowned",
                         self._session.demo.open_drowned), None), 4,
             label(words.INTAKE_PHONE_TEXT, "muted", wrap=True),
             line(button(words.INTAKE_PHONE, "openFieldPhone",
                         self._session.demo.open_phone), None), 4,
             label(words.INTAKE_SHELVES_TEXT, "muted", wrap=True),
             flow(button(words.INTAKE_DEMO_BACKUPS, "openSurveyBackups",
                         self._session.demo.open_backups),
                  button(words.INTAKE_DEMO_ALBUM, "openSurveyAlbum",
                         partial(self._session.demo.open_service, "album")),
                  button(words.INTAKE_DEMO_SYNC, "openSurveyFolder",
                         partial(self._session.demo.open_service, "sync"))))
        self.begin.addWidget(frame)
        self._show_demo()

    def _show_demo(self) -> None:
        if self.demo_button is None:
            return
        building = self._session.demo.builder is not None
        done, total = self._session.demo.told
        self.demo_button.setVisible(not building)
        self.demo_gauge.setVisible(building)
        self.demo_text.setVisible(building)
        self.demo_gauge.show_part(done / max(1, total))
        self.demo_text.setText(
            words.INTAKE_DEMO_BUILDING.format(done=done, total=total) if total
            else words.INTAKE_DEMO_STARTING)

    def _volumes_came(self, source: int, lane: object) -> None:
        """Only the volumes change: what else is shown stays, and can be clicked."""
        rows = list(lane.volumes) if isinstance(lane, VolumesLane) else []
        shown = self._session.source
        if shown is not None and shown.id == source and rows != self._volumes:
            self._show_volumes(rows)

    def _show_volumes(self, rows: list[VolumeSeen]) -> None:
        """What the source holds, and what cannot be done with it."""
        self._volumes = rows
        clear(self._volumes_box)
        if not rows:
            return
        self._volumes_box.addWidget(label(words.INTAKE_VOLUMES, "sub"))
        for row in rows:
            about = volume_words.line(row.kind, row.label, row.size, row.cluster_size, row.state,
                                      row.used_bytes)
            self._volumes_box.addWidget(label(about, wrap=True, name=f"volume-{row.start}"))
            for code in row.limits:
                self._volumes_box.addWidget(label(volume_words.LIMITS.get(code, code), "muted",
                                                  wrap=True))
        self._volumes_box.addSpacing(8)

    def _show_facts(self) -> None:
        clear(self.facts)
        source, board = self._session.source, self._session.board
        if source is None:
            self.facts.addWidget(label(words.INTAKE_NO_FACTS, "muted", wrap=True))
            return
        names = words.DOSSIER_SOURCE_FACTS
        grid = QGridLayout()
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(1, 1)
        rows = [
            (names["size"], f"{units.size(source.size)} ({source.size:,} bytes)"),
            (names["sectors"], f"{source.sector_size} bytes"),
            (names["opened"], words.OPENED_READ_ONLY), (names["path"], place_of(source.path)),
            (names["hash"], source.sha256 or words.NOT_HASHED)]
        if source.kind != BYTES:  # files are hashed one by one when they are delivered
            rows = [rows[0], *rows[2:4]]
        about = board.about.get(source.id, {})
        rows += shelf_words.own_facts(about)
        for index, (name, value) in enumerate(rows):
            grid.addWidget(label(name, "muted"), index, 0, Qt.AlignmentFlag.AlignTop)
            value_label = label(_breakable(value), wrap=True)
            grid.addWidget(value_label, index, 1)
        fill(self.facts, label(source.name, "title", wrap=True), 4, grid, 8,
             *(label(said, role, "sourceNote", wrap=True)
               for said, role in shelf_words.own_notes(about)), 4)
        self._volumes_box = QVBoxLayout()
        self.facts.addLayout(self._volumes_box)
        self._show_volumes(list(board.volumes.get(source.id, ())))
        fill(self.facts, label(words.INTAKE_NEXT, "sub"), label(words.INTAKE_NEXT_TEXT, wrap=True),
             line(button(words.INTAKE_TO_SEARCH, "toSearch", self.to_search.emit, "main"),
                  *([self._forecast_button(source.path)] if source.kind == BYTES else []), None),
             8, label(_breakable(words.INTAKE_JOB_KEPT.format(path=board.folder)), "small",
                      wrap=True))

    # opening

    def choose_image(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, words.CHOOSE_IMAGE, "", words.IMAGE_FILES)
        if path:
            self._session.open_image(Path(path))

    def choose_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, words.CHOOSE_FOLDER)
        if path:
            self._session.open_files([Path(path)])

    def choose_backup(self) -> None:
        """Take in a backup that is one file."""
        path, _ = QFileDialog.getOpenFileName(self, words.CHOOSE_BACKUP)
        if path:
            self.take_in(f"{BACKUP}{path}")

    def choose_backups(self) -> None:
        """Look which backups there are in a folder."""
        path = QFileDialog.getExistingDirectory(self, words.CHOOSE_BACKUPS)
        if path:
            self._session.shelves.find_backups(Path(path))

    def choose_files(self) -> None:
        paths, _ = QFileDialog.getOpenFileNames(self, words.CHOOSE_FILES)
        if paths:
            self._session.open_files([Path(path) for path in paths])

    def choose_job(self) -> None:
        path = QFileDialog.getExistingDirectory(self, words.CHOOSE_JOB)
        if path:
            self._session.open_job(Path(path))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if not paths:
            return
        if (paths[0] / "job.sqlite").exists():
            self._session.open_job(paths[0])
        elif are_files(paths) or len(paths) > 1:
            self._session.open_files(paths)
        else:
            self._session.open_image(paths[0])


def _about(row: SourceRow) -> str:
    if row.kind in words.INTAKE_OF_SHELVES:
        return words.INTAKE_OF_SHELVES[row.kind].format(size=units.size(row.size))
    if row.kind != BYTES:
        return words.INTAKE_OF_FILES.format(size=units.size(row.size))
    return f"{units.size(row.size)}, {row.sector_size}-byte sectors"


def copied_here(path: str, folder: Path | None) -> bool:
    """Whether the image at `path` was copied into the job in `folder`."""
    return folder is not None and Path(path).is_relative_to(folder / IMAGES)


def _shortened(folder: str) -> str:
    home = str(Path.home())
    text = "~" + folder[len(home):] if folder.startswith(home + "/") else folder
    return text if len(text) <= SHORT_PATH else "…" + text[1 - SHORT_PATH:]


def _breakable(text: str) -> str:
    """Paths may break behind every slash, hashes behind every eighth figure."""
    if "/" not in text and len(text) == 64:
        return "\u200b".join(text[at : at + 8] for at in range(0, 64, 8))
    return text.replace("/", "/\u200b")
