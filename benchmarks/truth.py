"""`python -m benchmarks.truth FOLDER`: searches every image in FOLDER that has a truth file.

For each NAME.img with NAME.truth.json: how many intact contiguous JPEG and PNG files came back byte
for byte as whole, and whether any damaged one was called whole.
"""

from __future__ import annotations

import hashlib
import json
import sys
import threading
from pathlib import Path

from needlewright.core.search.engine import search
from needlewright.core.search.events import Find, Found
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile

MEDIA = {"jpg", "jpeg", "png"}


def report(image: Path, truth: Path) -> None:
    files = json.loads(truth.read_text(encoding="utf-8"))["files"]
    with ImageFile(image) as source:
        events = search(source, Plan(), threading.Event())
        found = {e.find.start: e.find for e in events if isinstance(e, Found)}
        good, wanted, false = 0, 0, 0
        for file in files:
            if file["kind"] not in MEDIA:
                continue
            find = found.pop(file["extents"][0][0], None)
            if file["intact"] and len(file["extents"]) == 1:
                wanted += 1
                good += find is not None and _same(source, find, file["sha256"])
            elif not file["intact"] and find is not None and find.grade == "whole":
                # another file may begin where a lost one did
                false += any(start == 0 for start, _ in file["lost_ranges"]) is False
    print(f"{image.stem:<24} back {good:>3} of {wanted:>3}   false whole {false}   "
          f"others {len(found)}")


def _same(source: ImageFile, find: Find, sha256: str) -> bool:
    data = source.read_at(find.start, find.size)
    return find.grade == "whole" and hashlib.sha256(data).hexdigest() == sha256


def main(folder: Path) -> None:
    for truth in sorted(folder.glob("*.truth.json")):
        image = truth.with_name(truth.name.removesuffix(".truth.json") + ".img")
        if image.exists():
            report(image, truth)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
