"""`python -m benchmarks.truth FOLDER [-v] [--only NAME] [--steps a,b]`: what comes back of media
whose truth is known.

Each NAME.img with NAME.truth.json is searched with every step, as a user would. Told for files that
are there, removed in one piece, removed in several, formatted away, and overwritten: how many came
back byte for byte, how many of these as whole, how many under their name and in their folder; and
how many finds that are called whole are no file of the truth.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import tempfile
import threading
import time
from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core.contents import Place
from needlewright.core.jobfile.rows import FindRecord
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source


@dataclass
class Tally:
    """Of one group of files: how many, back byte for byte, whole, named, and in their folder."""

    files: int = 0
    same: int = 0
    whole: int = 0
    named: int = 0
    path: int = 0
    missed: list[dict[str, Any]] = field(default_factory=list)

    def __str__(self) -> str:
        return (f"{self.same}/{self.files} back, {self.whole} whole, {self.named} named, "
                f"{self.path} with path")


def digest(source: Source, record: FindRecord) -> str:
    data = record.content.open(Place(source))
    found = hashlib.sha256()
    for at in range(0, record.row.size, 1 << 20):
        found.update(data.read_at(at, min(1 << 20, record.row.size - at)))
    return found.hexdigest()


def group_of(file: dict[str, Any]) -> str:
    state = file["state"]
    if state.startswith("overwritten") or not file["intact"]:
        return "overwritten"
    pieces = "one" if len(file["extents"]) <= 1 else "several"
    if state == "live":
        return "live"
    kind = "" if file["media"] else "filler "
    return f"{kind}{state} {pieces}"


def search(image: Path, folder: Path, chosen: tuple[str, ...]) -> Job:
    job, row = job_for_image(folder / "job", image)
    for _ in run_search(job, row, Plan(chosen), threading.Event()):
        pass
    return job


def same_path(found: str | None, wanted: str) -> bool:
    """Whether a path is the wanted one, apart from upper folders that are told to be lost."""
    if found is None:
        return False
    if found == wanted:
        return True
    mine, theirs = found.split("/"), wanted.split("/")
    return len(mine) <= len(theirs) and mine[0].startswith("lost folder") and (
        mine[1:] == theirs[len(theirs) - len(mine) + 1 :])


def report(image: Path, truth: Path, chosen: tuple[str, ...], verbose: bool) -> None:
    files = json.loads(truth.read_text(encoding="utf-8"))["files"]
    by_hash: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for file in files:
        by_hash[file["sha256"]].append(file)
    groups: dict[str, Tally] = defaultdict(Tally)
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as folder, ImageFile(image) as source, search(
            image, Path(folder), chosen) as job:
        took = time.monotonic() - began
        records = [job.record(row.id) for row in job.matching() if row.grade != "gone"]
        gone = {row.path for row in job.matching() if row.grade == "gone"}
        found: dict[str, list[FindRecord]] = defaultdict(list)
        false = []
        for record in records:
            sha = digest(source, record)
            found[sha].append(record)
            if sha not in by_hash and record.row.grade == "whole":
                false.append(record)
        for file in files:
            tally = groups[group_of(file)]
            tally.files += 1
            mine = found.get(file["sha256"], [])
            tally.same += bool(mine)
            tally.whole += any(r.row.grade == "whole" for r in mine)
            tally.named += any(r.row.name == file["path"].rsplit("/", 1)[-1] for r in mine)
            tally.path += any(same_path(r.row.path, file["path"]) for r in mine)
            if group_of(file) == "overwritten":
                tally.named += file["path"] in gone or any(
                    r.row.path == file["path"] for r in records)
            elif not mine or not any(same_path(r.row.path, file["path"]) for r in mine) or (
                    file["media"] and not any(r.row.grade == "whole" for r in mine)):
                tally.missed.append(file)
        print(f"{image.stem} ({took:.1f} s, {len(records)} finds, {len(gone)} gone)"
              f"{f'  FALSE WHOLE {len(false)}' if false else ''}", flush=True)
        for name, tally in sorted(groups.items()):
            print(f"    {name:<24} {tally}", flush=True)
        if verbose:
            _explain(groups, records, false)


def _explain(groups: dict[str, Tally], records: list[FindRecord],
             false: list[FindRecord]) -> None:
    for name, tally in sorted(groups.items()):
        for file in tally.missed[:12]:
            print("      missed", name, file["path"], file["size"], file["extents"][:3],
                  len(file["extents"]))
            for record in records:
                close = record.row.path == file["path"] or any(
                    o == file["extents"][0][0] for o, _ in record.extents[:1])
                if close:
                    _show(record)
    for record in false:
        print("      FALSE")
        _show(record)


def _show(record: FindRecord) -> None:
    row = record.row
    against = [(c.name, str(c.outcome), c.code, dict(c.values)) for c in record.checks
               if c.outcome not in ("pass", "not applicable")]
    print("         ", row.grade, row.format, row.path, row.size, row.share, row.found_by,
          record.extents[:3], against[:3])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("-v", action="store_true")
    parser.add_argument("--only", default="")
    parser.add_argument("--steps", default=",".join(steps()))
    options = parser.parse_args()
    for truth in sorted(options.folder.glob("*.truth.json")):
        image = truth.with_name(truth.name.removesuffix(".truth.json") + ".img")
        if image.exists() and options.only in truth.name:
            report(image, truth, tuple(options.steps.split(",")), options.v)


if __name__ == "__main__":
    main()
