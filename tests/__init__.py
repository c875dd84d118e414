"""Tests mirror the tree. Deadlines are off: compiling a kernel takes what it takes."""

import os

from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile("plain", deadline=None, derandomize=True)
settings.load_profile("plain")
