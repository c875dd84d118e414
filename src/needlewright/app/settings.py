"""What the program remembers between starts: recent jobs, the look."""

from __future__ import annotations

import contextlib
import json
import time
from pathlib import Path
from typing import Any

import platformdirs

RECENT = 8


class Settings:
    """A small JSON file in the user's configuration folder; unreadable means empty."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path or Path(platformdirs.user_config_dir("needlewright")) / "settings.json"
        self._values: dict[str, Any] = {}
        try:
            loaded = json.loads(self.path.read_text(encoding="utf-8"))
            self._values = loaded if isinstance(loaded, dict) else {}
        except (OSError, ValueError):
            self._values = {}

    def get(self, key: str, default: Any = None) -> Any:
        return self._values.get(key, default)

    def set(self, key: str, value: Any) -> None:
        """Keep a value; failing to save it costs nothing but the memory of it."""
        self._values[key] = value
        with contextlib.suppress(OSError):
            self.path.parent.mkdir(parents=True, exist_ok=True)
            partial = self.path.with_suffix(".new")
            partial.write_text(json.dumps(self._values, indent=1), encoding="utf-8")
            partial.replace(self.path)

    def recent_jobs(self) -> list[tuple[str, str]]:
        """(folder, title) of jobs opened lately that still exist, newest first."""
        listed = self.get("recent", [])
        return [(f, t) for f, t in listed if (Path(f) / "job.sqlite").exists()]

    def remember_job(self, folder: str, title: str) -> None:
        rest = [[f, t] for f, t in self.get("recent", []) if f != folder]
        self.set("recent", [[folder, title], *rest][:RECENT])


def jobs_folder() -> Path:
    """Where new jobs are proposed."""
    return Path(platformdirs.user_data_dir("needlewright")) / "jobs"


def new_folder(image: Path) -> Path:
    """A folder that does not exist yet, named after the image and the day."""
    base = jobs_folder() / f"{image.stem} {time.strftime('%Y-%m-%d')}"
    folder, number = base, 1
    while folder.exists():
        number += 1
        folder = base.with_name(f"{base.name} ({number})")
    return folder
