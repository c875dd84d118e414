"""Made-up pictures and small media for tests, built in code."""

from __future__ import annotations

import contextlib
import io
import os
import random
import signal
import subprocess
import tempfile
import threading
import traceback
import unittest
from collections.abc import Sequence
from pathlib import Path
from unittest import mock

from PIL import Image

from needlewright.cli.program import main
from needlewright.core.finds import Find
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source
from needlewright.demo import photos, scenes

SECTOR = 512
CLUSTER = 4096


def scene(seed: int = 1, width: int = 640, height: int = 480, mode: str = "RGB") -> Image.Image:
    """A small survey picture."""
    return scenes.draw_photo(seed, width, height, "Fernbeck Valley").convert(mode)


def jpeg(picture: Image.Image | None = None, **options: object) -> bytes:
    out = io.BytesIO()
    (picture or scene()).save(out, "JPEG", **{"quality": 88, **options})
    return out.getvalue()


def camera_jpeg(seed: int = 1, width: int = 1024, height: int = 768, **options: object) -> bytes:
    """As the demo's camera writes it: EXIF, thumbnail, picture."""
    return photos.encode_photo(scene(seed, width, height), "2031:05:12 05:58:12", 100, 88,
                               **options)


def png(picture: Image.Image | None = None, **options: object) -> bytes:
    out = io.BytesIO()
    (picture or scene(2, 320, 240)).save(out, "PNG", **options)
    return out.getvalue()


def noise(size: int, seed: int = 7) -> bytes:
    return random.Random(seed).randbytes(size)


def splice(whole: bytes, at: int, foreign: bytes) -> bytes:
    """`whole` with the bytes from `at` overwritten by `foreign`, its length unchanged."""
    return (whole[:at] + foreign + whole[at + len(foreign):])[: len(whole)]


def medium(pieces: Sequence[tuple[int, bytes]], size: int) -> bytes:
    """`size` bytes of zeros with pieces laid at their offsets."""
    block = bytearray(size)
    for offset, data in pieces:
        block[offset : offset + len(data)] = data
    return bytes(block)


def finds_on(source: Source, plan: Plan | None = None) -> list[Find]:
    """All finds of a search to the end, by place."""
    events = search(source, plan or Plan(), threading.Event())
    found = {}
    for event in events:
        if isinstance(event, Found | Rechecked):
            found[event.find.start, event.find.format] = event.find
    return sorted(found.values(), key=lambda f: f.start)


class FolderTest(unittest.TestCase):
    """Gives each test a folder of its own."""

    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def image(self, data: bytes, name: str = "card.img") -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path

    def open_image(self, data: bytes, name: str = "card.img") -> ImageFile:
        source = ImageFile(self.image(data, name))
        self.addCleanup(source.close)
        return source


def program(*arguments: object, cwd: Path | None = None,
            env: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
    """One command as the installed program would run it, in this process: to start one takes longer
    than most commands do."""
    out, err = io.StringIO(), io.StringIO()
    before = signal.getsignal(signal.SIGINT)
    with contextlib.ExitStack() as held:
        held.enter_context(contextlib.redirect_stdout(out))
        held.enter_context(contextlib.redirect_stderr(err))
        if cwd is not None:
            held.enter_context(contextlib.chdir(cwd))
        if env is not None:
            held.enter_context(mock.patch.dict(os.environ, env, clear=True))
        try:
            status = main([str(one) for one in arguments])
        except SystemExit as ended:
            status = ended.code if isinstance(ended.code, int) else 0 if ended.code is None else 1
            if isinstance(ended.code, str):
                print(ended.code, file=err)
        except Exception:  # as the interpreter would tell it
            traceback.print_exc(file=err)
            status = 1
        finally:
            signal.signal(signal.SIGINT, before)
    return subprocess.CompletedProcess(list(arguments), status, out.getvalue(), err.getvalue())
