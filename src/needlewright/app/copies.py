"""The running copy, as the window's stations share it; and what is attached."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.viewmodels.read_lane import ReadLane
from needlewright.app.worker import CopyWork, DevicesWork, ForecastWork, VerifyWork
from needlewright.core.imaging.copier import CopyPlan
from needlewright.core.imaging.events import Copied, Copying, Trouble, Waiting
from needlewright.core.imaging.forecast import Forecast
from needlewright.core.imaging.verify import Verified, Verifying
from needlewright.core.sources.devices import Device
from needlewright.core.sources.registry import short_name

TROUBLES_KEPT = 200


class Copies(QObject):
    """At most one copy at a time. `changed`: it began, told something, waits or ended."""

    changed = Signal()
    lane_came = Signal(object)  # ReadLane
    devices_changed = Signal()
    problem = Signal(str)
    forecast_changed = Signal()
    image_came = Signal()  # the job has the image as a source now

    def __init__(self, look: Callable[[], list[Device]], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.work: CopyWork | None = None
        self.told: Copying | None = None
        self.waiting: Waiting | None = None
        self.troubles: list[Trouble] = []
        self.ended: Copied | None = None
        self.lane: ReadLane | None = None
        self.name = self.spec = ""
        self.plan = CopyPlan()
        self._folder, self._although, self._anew = Path(), False, False
        self.devices: list[Device] = []
        self.verifying: VerifyWork | None = None
        self.verify_told: Verifying | None = None
        self.verified: Verified | None = None
        self.slow: list[tuple[int, int, float]] = []
        self.forecasting: ForecastWork | None = None
        self.forecast: Forecast | None = None
        self.forecast_name = ""
        self._looking = DevicesWork(look, self)
        self._looking.changed.connect(self._devices_came)
        self._looking.start()

    def begin(self, folder: Path, spec: str, although_mounted: bool = False) -> None:
        """Copy the medium at `spec` into the job in `folder`, or go on with it."""
        if self.work is not None:
            return
        work = CopyWork(folder, spec, self.plan, although_mounted, self)
        self._folder, self._although = folder, although_mounted
        work.told.connect(self._told)
        work.lane.connect(self._lane)
        work.waits.connect(self._waits)
        work.trouble.connect(self._trouble)
        work.ended.connect(self._ended)
        work.failed.connect(self.problem)
        work.finished.connect(self._over)
        self.work, self.spec, self.name = work, spec, short_name(spec)
        self.forget()
        work.start()
        self.changed.emit()

    def forget(self) -> None:
        """Begin with a clean slate: nothing told, nothing troubled."""
        self.told = self.waiting = self.ended = self.lane = None
        self.troubles, self.slow = [], []
        self.verified = self.verify_told = None

    def begin_verify(self, with_medium: bool = False) -> None:
        """Read the finished image again and compare it with its hashes, or with the medium too."""
        if self.verifying is not None or self.ended is None:
            return
        work = VerifyWork(Path(self.ended.image), self.spec if with_medium else None, self)
        work.told.connect(self._verify_told)
        work.ended.connect(self._verify_ended)
        work.failed.connect(self.problem)
        work.finished.connect(self._verify_over)
        self.verifying, self.verified, self.verify_told = work, None, None
        work.start()
        self.changed.emit()

    def _verify_told(self, event: Verifying) -> None:
        self.verify_told = event
        self.changed.emit()

    def _verify_ended(self, event: Verified) -> None:
        self.verified = event

    def _verify_over(self) -> None:
        if self.verifying is not None:
            self.verifying.deleteLater()
        self.verifying = None
        self.changed.emit()

    def begin_forecast(self, spec: str) -> None:
        """Sample the medium at `spec`; only when asked, and one at a time."""
        if self.forecasting is not None:
            return
        work = ForecastWork(spec, self)
        work.ended.connect(self._forecast_came)
        work.failed.connect(self.problem)
        work.finished.connect(self._forecast_over)
        self.forecasting, self.forecast, self.forecast_name = work, None, short_name(spec)
        work.start()
        self.forecast_changed.emit()

    def _forecast_came(self, found: Forecast) -> None:
        self.forecast = found

    def _forecast_over(self) -> None:
        if self.forecasting is not None:
            self.forecasting.deleteLater()
        self.forecasting = None
        self.forecast_changed.emit()

    def use(self, plan: CopyPlan) -> None:
        """Copy by `plan` from now on; a running copy goes on with it."""
        self.plan = plan
        if self.work is not None:
            self._anew = True
            self.work.stop()

    def never_mind(self) -> None:
        """Read on although a read hangs."""
        if self.work is not None:
            self.work.never_mind.set()

    def pause(self) -> None:
        if self.work is not None:
            self.work.go_on() if self.work.paused else self.work.pause()
            self.changed.emit()

    def stop(self) -> None:
        if self.work is not None:
            self.work.stop()

    def _told(self, event: Copying) -> None:
        first, self.told = self.told is None, event
        if first:
            self.image_came.emit()
        self.changed.emit()

    def _lane(self, lane: ReadLane, slow: list[tuple[int, int, float]]) -> None:
        self.lane, self.slow = lane, slow
        self.lane_came.emit(lane)

    def _waits(self, event: Waiting | str) -> None:
        self.waiting = event if isinstance(event, Waiting) else None
        if isinstance(event, str):
            self.spec = event  # under which name it is back
        self.changed.emit()

    def _trouble(self, event: Trouble) -> None:
        self.troubles = [event, *self.troubles][:TROUBLES_KEPT]

    def _ended(self, event: Copied) -> None:
        self.ended = event

    def _over(self) -> None:
        if self.work is not None:
            self.work.deleteLater()
        self.work = self.waiting = None
        anew, self._anew = self._anew, False
        if anew:
            self.begin(self._folder, self.spec, self._although)
        self.changed.emit()

    def _devices_came(self, found: list[Device]) -> None:
        self.devices = found
        self.devices_changed.emit()

    def end_copy(self) -> None:
        """Stop a running copy and wait; everything copied is kept."""
        for work in (self.work, self.verifying):
            if work is not None:
                work.blockSignals(True)
                work.end()
        self.work = self.verifying = None

    def end(self) -> None:
        self.end_copy()
        if self.forecasting is not None:
            self.forecasting.blockSignals(True)
            self.forecasting.end()
            self.forecasting = None
        self._looking.end()
