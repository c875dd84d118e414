"""A stand-in that runs as a process of its own, with a folder for what it needs."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path
from typing import Self

from needlewright.core import processes


class Running:
    """Ends with `close`, or the `with` statement that it stands in."""

    def __init__(self, name: str) -> None:
        self._place = tempfile.TemporaryDirectory(prefix=f"needlewright-{name}-")
        self.folder = Path(self._place.name)
        self.process: subprocess.Popen[bytes]

    def begin(self, module: str, *arguments: str) -> bytes:
        """Start `module`; the first line that it says."""
        self.process = processes.start(module, *arguments, stdin=subprocess.DEVNULL)
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        if not line:
            raise RuntimeError(f"{module} did not start")
        return line.strip()

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        assert self.process.stdout is not None
        self.process.stdout.close()
        self._place.cleanup()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
