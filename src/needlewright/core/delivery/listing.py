"""The lists beside the files: finds.json and finds.csv."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from needlewright.core.codes import Reason
from needlewright.core.jobfile.rows import BYTES, FindRecord, SourceRow, StepRow
from needlewright.core.names import TURNING, harmless
from needlewright.core.search.events import VolumeSeen
from needlewright.core.walks import Check

COLUMNS = (
    "id", "source", "volume", "file", "kind", "format", "size", "sha256", "grade", "share",
    "found_by", "name", "path", "removed", "created", "modified", "taken", "removed_at", "width",
    "height", "duration_s", "encoding", "extents", "twins", "mended_from", "problem", "checks",
)


FORMULA = frozenset("=+-@\t\r\n")


@dataclass(frozen=True, slots=True)
class DeliveredFile:
    """A delivered file: its path in the bag and its SHA-256 (hex)."""

    file: str
    sha256: str


def entry(record: FindRecord, written: DeliveredFile | None, twins: list[int],
          describe: Callable[[Check], str], reason: Callable[[Reason], str],
          change: Callable[[Reason], str], volume: str | None,
          problem: str | None) -> dict[str, Any]:
    """One find as finds.json holds it; `problem`: why it was chosen and could not be delivered."""
    row, told = record.row, record.record
    return {
        "id": row.id, "source": row.source, "file": written.file if written else None,
        "kind": row.kind, "format": row.format, "size": row.size,
        "sha256": written.sha256 if written else None, "grade": row.grade, "share": row.share,
        "found_by": list(row.found_by), "name": row.name, "path": row.path,
        "removed": row.removed,
        "times": {"created": told.created if told else None, "modified": row.modified,
                  "taken": row.taken, "removed": told.removed_at if told else None},
        "width": row.width, "height": row.height, "duration_s": row.duration_s,
        "encoding": record.content.encoding,
        "extents": [list(extent) for extent in record.extents], "twins": twins,
        "volume": volume, "problem": problem,
        "seams": [{"at": s.at, "word": str(s.word), "reasons": [reason(r) for r in s.reasons]}
                  for s in record.seams],
        "joined_from": record.joined_from,
        "mended_from": record.mended_from,
        "changes": [{"code": c.code, "detail": change(c)} for c in record.changes],
        "inside": record.parent, "kept": row.kept or None,
        "original_path": told.original if told else None,
        "checks": [
            {"name": c.name, "outcome": str(c.outcome), "detail": describe(c)}
            for c in record.checks],
    }


def volume_name(record: FindRecord, volumes: Sequence[VolumeSeen]) -> str | None:
    """What the volume that a find was on is called; None where no record names the find."""
    if record.record is None:
        return None
    start = record.record.volume
    found = next((v for v in volumes if v.start == start), None)
    return f"volume at {start}" if found is None else found.label or f"{found.kind} at {start}"


def head(sources: Iterable[SourceRow], steps: Iterable[StepRow]) -> dict[str, Any]:
    """The part of finds.json before the finds."""
    return {
        "needlewright": 1,
        "sources": [
            {"id": s.id, "path": s.path,
             "kind": s.kind, "size": s.size if s.kind == BYTES else None,
             "sha256": s.sha256} for s in sources],
        "steps": [
            {"step": s.step, "source": s.source, "kinds": list(s.kinds),
             "area": [s.area_start, s.area_stop], "ending": s.ending, "reached": s.checkpoint}
            for s in steps],
    }


def write_lists(folder: Path, top: Mapping[str, Any], entries: Iterable[dict[str, Any]]) -> None:
    """Write finds.json and finds.csv into `folder`, one find at a time."""
    with (folder / "finds.json").open("w", encoding="utf-8") as out, (
            folder / "finds.csv").open("w", encoding="utf-8", newline="") as table:
        rows = csv.DictWriter(table, COLUMNS, extrasaction="ignore")
        rows.writeheader()
        opening = json.dumps(dict(top), ensure_ascii=False, indent=1)
        out.write(opening.rstrip("}\n ") + ',\n "finds": [')
        for index, item in enumerate(entries):
            out.write((",\n  " if index else "\n  ") + _escaped(item))
            rows.writerow({name: cell(value) for name, value in _flat(item).items()})
        out.write("\n ]}\n")


def _escaped(item: Mapping[str, Any]) -> str:
    """JSON in which letters that turn others around stand as escapes; it reads as the same."""
    plain = json.dumps(item, ensure_ascii=False)
    return TURNING.sub(lambda match: f"\\u{ord(match[0]):04x}", plain)


def cell(value: Any) -> Any:
    """A cell that no table program takes for a formula, and in which nothing turns others around.
    """
    if not isinstance(value, str):
        return value
    value = harmless(value)
    return f"'{value}" if value[:1] in FORMULA else value


def _flat(item: Mapping[str, Any]) -> dict[str, Any]:
    extents = " ".join(
        f"{'hole' if offset is None else offset}+{length}" for offset, length in item["extents"])
    checks = "; ".join(f"{c['name']}: {c['outcome']}: {c['detail']}" for c in item["checks"])
    times = {name: item["times"][name] for name in ("created", "modified", "taken")}
    return {
        **item, **times, "removed_at": item["times"]["removed"],
        "found_by": " ".join(item["found_by"]), "extents": extents,
        "twins": " ".join(map(str, item["twins"])), "checks": checks,
    }
