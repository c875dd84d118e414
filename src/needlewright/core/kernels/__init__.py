"""Numeric kernels compiled by numba: arrays in, arrays out, no Python objects inside.

Compiled code is cached in the user's cache folder, so installed copies need not be writable. Numba
looks only at the file of a kernel to see whether its cache is stale, not at the helpers and
constants that it takes from others: so the cache has a folder for each state of all of them.
"""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

import platformdirs


def _state() -> str:
    """A short name for what all kernels are at present."""
    digest = hashlib.sha256()
    for path in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


os.environ.setdefault("NUMBA_CACHE_DIR", os.path.join(
    platformdirs.user_cache_dir("needlewright"), "kernels", _state()))
