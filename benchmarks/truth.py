"""`python -m benchmarks.truth FOLDER [-v]`: searches every image in FOLDER that has a truth file.

For each NAME.img with NAME.truth.json: how many intact contiguous media files came back byte for
byte as whole, and whether any damaged one was called whole.
"""

from __future__ import annotations

import hashlib
import json
import sys
import threading
from pathlib import Path
from typing import Any

from needlewright.core.search.engine import search
from needlewright.core.search.events import Find, Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile


def report(image: Path, truth: Path, verbose: bool) -> None:
    files = json.loads(truth.read_text(encoding="utf-8"))["files"]
    with ImageFile(image) as source:
        events = search(source, Plan(), threading.Event())
        found = {e.find.start: e.find for e in events if isinstance(e, Found | Rechecked)}
        kinds: dict[str, list[int]] = {}
        for file in files:
            if not file["media"]:
                continue
            count = kinds.setdefault(file["kind"], [0, 0, 0])
            find = found.get(file["extents"][0][0])
            if file["intact"] and len(file["extents"]) == 1:
                count[1] += 1
                count[0] += find is not None and _same(source, find, file["sha256"])
                if verbose and (find is None or not _same(source, find, file["sha256"])):
                    _explain(file, find)
            elif find is not None and find.grade == "whole" and not _same(
                    source, find, file["sha256"]):
                # another file may begin where a lost one did
                lost_head = any(start == 0 for start, _ in file.get("lost_ranges", []))
                count[2] += not lost_head
                if verbose and not lost_head:
                    _explain(file, find)
    line = "   ".join(f"{kind} {good}/{wanted}" + (f" FALSE {false}" if false else "")
                      for kind, (good, wanted, false) in sorted(kinds.items()))
    print(f"{image.stem:<20} {line}   finds {len(found)}", flush=True)


def _explain(file: dict[str, Any], find: Find | None) -> None:
    print("   ", file["path"], file["size"], file["extents"][:3], file.get("lost_ranges", [])[:2])
    if find is not None:
        against = [(c.name, str(c.outcome), c.code, dict(c.values)) for c in find.checks
                   if c.outcome not in ("pass", "not applicable")]
        print("       ", find.format, find.grade, find.size, find.share, against)


def _same(source: ImageFile, find: Find, sha256: str) -> bool:
    data = source.read_at(find.start, find.size)
    return find.grade == "whole" and hashlib.sha256(data).hexdigest() == sha256


def main(folder: Path, verbose: bool) -> None:
    for truth in sorted(folder.glob("*.truth.json")):
        image = truth.with_name(truth.name.removesuffix(".truth.json") + ".img")
        if image.exists():
            report(image, truth, verbose)


if __name__ == "__main__":
    main(Path(sys.argv[1]), "-v" in sys.argv)
