"""The SHA-256 of a file of our own making: something brought, kept or mended.

Not in `core.sources`, where no file is opened but by the one call that can only read.
"""

from __future__ import annotations

import hashlib
from pathlib import Path


def sha256_of(path: Path) -> str:
    """The SHA-256 (hex) of a file; OSError."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
