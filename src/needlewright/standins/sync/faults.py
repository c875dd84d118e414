"""Who may see the synchronised folder, and what is wrong with it."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path

USER, PASSWORD = "hollow.bank", "sedge and rush"
TOP = "/survey"


@dataclass
class SyncFaults:
    """`drops`: bytes of contents after which the connection breaks, once each. `limits`: every so
    many requests are answered with 429, `retry` seconds. `digest`: it signs people in by digest.
    `open`: nobody signs in. `versions`: it keeps older versions. `html`: it answers with a page.
    `down`: it answers nothing until it is told otherwise."""

    drops: list[int] = field(default_factory=list)
    limits: int = 0
    retry: float = 1.0
    digest: bool = False
    open: bool = False
    versions: bool = True
    html: bool = False
    down: bool = False

    @staticmethod
    def load(path: Path) -> SyncFaults:
        return SyncFaults(**json.loads(path.read_text(encoding="utf-8")))
