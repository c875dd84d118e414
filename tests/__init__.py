"""Tests mirror the tree. Deadlines are off: compiling a kernel takes what it takes."""

import logging
import os
import sys

from hypothesis import settings

from tests import kept

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# Bags that must fail validation would fill the output with the failures.
logging.getLogger("bagit").setLevel(logging.CRITICAL + 1)
settings.register_profile("plain", deadline=None, derandomize=True)
settings.load_profile("plain")
if "benchmarks" not in sys.modules:  # whoever measures makes more than should be kept
    kept.install()
