"""Tests mirror the tree. Deadlines are off: compiling a kernel takes what it takes."""

import logging
import os
import sys

from hypothesis import settings

from tests import kept
from tests.examples import LARGE, TIMES, USUAL

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# Bags that must fail validation would fill the output with the failures.
logging.getLogger("bagit").setLevel(logging.CRITICAL + 1)
settings.register_profile("plain", deadline=None, derandomize=True, max_examples=USUAL)
settings.register_profile("large", deadline=None, max_examples=USUAL * TIMES)
settings.load_profile("large" if LARGE else "plain")
if "benchmarks" not in sys.modules:  # whoever measures makes more than should be kept
    kept.install()
