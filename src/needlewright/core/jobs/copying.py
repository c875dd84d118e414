"""Copying a medium into a job: where the image goes, the guards, the log, the source row."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.imaging.copier import CopyPlan, copy
from needlewright.core.imaging.events import Copied, CopyEvent, Trouble, Waiting, WentOn
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import refuse_on_source
from needlewright.core.names import safe_name
from needlewright.core.sources.devices import mounted_for_writing
from needlewright.core.sources.registry import open_source, short_name, whole_name
from needlewright.core.stopping import StopSignal

IMAGES = "images"
TROUBLES_LOGGED = 200  # of one run; the read map holds all of them


def image_path(job: Job, spec: str) -> Path:
    """Where the copy of the source `spec` is kept in `job`."""
    stem = safe_name(short_name(spec)).removesuffix(".img")
    return job.folder / IMAGES / f"{stem}.img"


def run_copy(job: Job, spec: str, plan: CopyPlan, stop: StopSignal, *,
             although_mounted: bool = False,
             never_mind: StopSignal | None = None,
             pausing: StopSignal | None = None) -> Iterator[CopyEvent]:
    """Copy the source `spec` into `job`; the image becomes a source of the job at once.

    Yields the copy's events. Raises SourceError and JobError; what was copied is kept. A medium
    that is mounted for writing is refused unless `although_mounted`. `never_mind` and `pausing` as
    for `copy`.
    """
    spec = whole_name(spec)
    refuse_on_source(spec, job.folder)
    mounts = mounted_for_writing(spec)
    if mounts and not although_mounted:
        raise SourceError("source-mounted", path=spec, mounts=" ".join(mounts))
    image = image_path(job, spec)
    job.log("copy-begins", {"source": spec, "image": image.name})
    row, troubles = 0, 0
    for event in copy(spec, image, plan, stop, never_mind, pausing):
        if not row:
            row = _add_image(job, image)
        match event:
            case Waiting(reason=reason):
                job.log(f"copy-waits-{reason}", {"image": image.name, **event.values})
            case WentOn():
                job.log("copy-goes-on", {"image": image.name, "spec": event.spec})
            case Trouble(lost=True) if troubles < TROUBLES_LOGGED:
                troubles += 1
                job.log("range-unreadable", {
                    "start": event.start, "stop": event.stop, "reason": event.reason})
            case Copied():
                if event.sha256 is not None:
                    job.set_source_hash(row, event.sha256)
                job.log(f"copy-{event.ending}", {
                    "image": image.name, "bytes": event.read, "unreadable": event.unreadable})
        yield event


def _add_image(job: Job, image: Path) -> int:
    """Make the image a source of the job; the source's id."""
    first = image if image.exists() else image.with_name(f"{image.name}.001")
    with open_source(str(first)) as source:
        return job.add_source(source, str(first)).id
