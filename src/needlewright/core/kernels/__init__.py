"""Numeric kernels: arrays in, arrays out, compiled by numba, each behind a checked wrapper.

The compiled code is cached in the user's cache folder, so that only the first start pays for it.
"""

from __future__ import annotations

import os

import platformdirs

os.environ.setdefault(
    "NUMBA_CACHE_DIR", os.path.join(platformdirs.user_cache_dir("needlewright"), "kernels")
)
