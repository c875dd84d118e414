"""Backups and shelves for tests, made by other people's tools where there are any."""

from __future__ import annotations

import contextlib
import hashlib
import io
import threading
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any
from unittest import mock

from needlewright.cli.program import main
from needlewright.core import kept_open, secrets
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.events import Event
from needlewright.core.search.plan import Plan
from needlewright.core.shelves.backups.base import open_backup
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf, Flaw
from tests.support import FolderTest, camera_jpeg


@cache
def photo(seed: int) -> bytes:
    """A small photo with its facts."""
    return camera_jpeg(seed, 320, 240)


def files(count: int = 4) -> dict[str, bytes]:
    """Paths and contents as a phone has them."""
    found = {f"DCIM/Camera/FP_{n:04}.jpg": photo(n) for n in range(count)}
    return found | {"Notes/holts.txt": b"Hollow Bank, Reed Island.\n" * 40, "Notes/empty.txt": b""}


def write_tree(place: Path, what: dict[str, bytes]) -> Path:
    for path, data in what.items():
        (place / path).parent.mkdir(parents=True, exist_ok=True)
        (place / path).write_bytes(data)
    return place


def contents(path: Path, spec: str = "") -> tuple[dict[str, bytes], dict[str, str]]:
    """(what each file of a backup holds, the codes of what breaks off), by paths."""
    backup = open_backup(path, spec)
    found: dict[str, bytes] = {}
    flaws: dict[str, str] = {}
    try:
        for item in backup.items(lambda: None):
            if "problem" in item.told:
                flaws[item.path] = item.told["problem"]
                continue
            parts = []
            try:
                for block in backup.content(item, 0):
                    parts.append(block)
            except Flaw as flaw:
                flaws[item.path] = flaw.code
            found[item.path] = b"".join(parts)
    finally:
        backup.close()
    return found, flaws


def sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


class ShelfTest(FolderTest):
    """Nothing is left over of secrets and of what was kept open."""

    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(kept_open.let_all_go)
        self.addCleanup(secrets._known.clear)
        self.addCleanup(secrets._askers.clear)
        self.addCleanup(secrets._for_all.clear)

    def asked(self, *answers: str | None) -> list[tuple[str, bool]]:
        """Have these be answered, one after another; what was asked goes into the list."""
        line, heard = list(answers), []

        def ask(spec: str, what: str, wrong: bool) -> str | None:
            heard.append((what, wrong))
            return line.pop(0) if line else None

        secrets.asked_by(ask)
        return heard

    def command(self, *arguments: object) -> tuple[int, str, str]:
        out, errors = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
            status = main([str(argument) for argument in arguments])
        return status, out.getvalue(), errors.getvalue()

    @contextlib.contextmanager
    def shelf(self, spec: str) -> Iterator[DistantShelf]:
        with open_source(spec) as source:
            assert isinstance(source, DistantShelf)
            yield source

    def brought(self, spec: str, job: Path | None = None, **wanted: Any) -> list[Event]:
        """Take a shelf into a job and bring what it holds; what was told."""
        opened, row = job_for_image(job or self.folder / "job", spec)
        with opened:
            plan = Plan(("kept-copies",), patience=20.0, **wanted)
            return list(run_search(opened, row, plan, threading.Event()))

    def finds(self, job: Path | None = None) -> dict[str, Any]:
        """Path -> row of each find of the job."""
        with Job(job or self.folder / "job", read_only=True) as opened:
            return {row.path or "": row for row in opened.matching()}

    def checks(self, number: int, job: Path | None = None) -> list[str]:
        with Job(job or self.folder / "job", read_only=True) as opened:
            return [check.code for check in opened.record(number).checks]

    def quickly(self) -> None:
        """Waiting for what is away takes no long pauses."""
        patched = mock.patch("needlewright.core.search.bringing.WAIT_SECONDS", 0.05)
        patched.start()
        self.addCleanup(patched.stop)
