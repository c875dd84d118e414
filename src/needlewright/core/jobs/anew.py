"""A damaged job copied: what can be read of it in a new job, which works as any other does."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.errors import JobError
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.salvaging import copy_rows
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.copying import IMAGES
from needlewright.core.stopping import StopSignal


@dataclass(frozen=True, slots=True)
class CopiedJob:
    """`finds` of the `known` that the damaged job is known to have had."""

    folder: Path
    finds: int
    known: int


def copy_job(folder: Path, to: Path, stop: StopSignal) -> CopiedJob:
    """Copy what can be read of the job in `folder` into a new job in `to`, with its pictures and
    what was mended or brought; copied media stay where they are, and `folder` is not changed.

    Raises JobError where nothing of the job can be read, where `to` is no empty folder or cannot be
    written; Interrupted. What was copied until then stays.
    """
    folder, to = folder.absolute(), to.absolute()
    if to.is_relative_to(folder):
        raise JobError("job-copy-within", path=str(to))
    if (to / DATABASE).exists():
        raise JobError("job-copy-taken", path=str(to))
    with Job(folder, read_only=True) as old, Job(to, create=True) as new:
        finds, known = copy_rows(old, new, stop)
        try:
            for path in sorted(folder.iterdir()):
                if path.name.startswith(DATABASE) or path.name == IMAGES or path.is_symlink():
                    continue
                if path.is_dir():
                    shutil.copytree(path, to / path.name, symlinks=True, dirs_exist_ok=True)
                elif path.is_file():
                    shutil.copy2(path, to / path.name)
        except OSError as error:  # copytree's is a list of all that it met
            raise JobError("job-not-written", path=str(to),
                           reason=error.strerror or str(error)[:200]) from error
        new.log("job-copied", {"from": str(folder), "finds": finds, "known": known})
    return CopiedJob(to, finds, known)
