"""Tests mirror the tree. Deadlines are off: compiling a kernel takes what it takes."""

import logging
import os

from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# Bags that must fail validation would fill the output with the failures.
logging.getLogger("bagit").setLevel(logging.CRITICAL + 1)
settings.register_profile("plain", deadline=None, derandomize=True)
settings.load_profile("plain")
