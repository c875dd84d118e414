"""Made-up media kept on disk: encoders take longer than most of what the tests do with their files.

What a maker returns is kept under the hash of its arguments, of the code of all makers and of the
libraries' versions, in the user's cache or in the folder that NEEDLEWRIGHT_MADE names, for all
clones alike; a changed maker makes anew, and what nobody asked for in a month goes. Two processes
may make the same at once, and nobody sees half of it.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import importlib
import os
import pickle
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import av
import numpy as np
import PIL
import platformdirs

ROOT = Path(__file__).resolve().parents[1]
PLACE = Path(os.environ.get("NEEDLEWRIGHT_MADE")
             or Path(platformdirs.user_cache_dir("needlewright-tests")) / "made")
KEPT_S = 30 * 86_400.0
QUICK = {"libx264": {"preset": "veryfast"}, "libx265": {"preset": "ultrafast"},
         "libvpx-vp9": {"deadline": "realtime", "cpu-used": "8"}}
MAKERS = ("src/needlewright/demo", "tests/media", "benchmarks/families.py")


@functools.cache
def _makers() -> bytes:
    """A hash of all that decides on what comes out."""
    told = hashlib.sha256(f"{av.__version__} {PIL.__version__} {np.__version__}".encode())
    for place in MAKERS:
        path = ROOT / place
        for one in sorted(path.rglob("*.py")) if path.is_dir() else [path]:
            told.update(one.read_bytes())
    return told.digest()


def kept(maker: Callable[..., Any]) -> Callable[..., Any]:
    """`maker`, whose results are kept. A `random.Random` among its arguments counts by its state,
    and has the state afterwards that making leaves it in."""
    name = f"{maker.__module__}.{maker.__qualname__}"

    @functools.wraps(maker)
    def wrapped(*args: Any, **options: Any) -> Any:
        chances = [one for one in args if isinstance(one, random.Random)]
        told = [one.getstate() if isinstance(one, random.Random) else one for one in args]
        key = hashlib.sha256(_makers() + pickle.dumps((name, told, sorted(options.items()))))
        path = PLACE / key.hexdigest()[:40]
        with contextlib.suppress(OSError, EOFError, pickle.UnpicklingError):
            result, states = pickle.loads(path.read_bytes())
            for chance, state in zip(chances, states, strict=True):
                chance.setstate(state)
            with contextlib.suppress(OSError):
                os.utime(path)
            return result
        result = maker(*args, **options)
        _keep(path, pickle.dumps((result, [one.getstate() for one in chances])))
        return result

    return wrapped


def _keep(path: Path, data: bytes) -> None:
    with contextlib.suppress(OSError):  # a full disk only makes it slower
        path.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=path.parent, delete=False) as out:
            out.write(data)
        os.replace(out.name, path)


def forget_old() -> None:
    """Remove what was not asked for in a month."""
    with contextlib.suppress(OSError):
        for path in PLACE.iterdir():
            if time.time() - path.stat().st_mtime > KEPT_S:
                path.unlink(missing_ok=True)


def quickly(encode: Callable[..., bytes]) -> Callable[..., bytes]:
    """`encode`, by the coder's quick settings where the test asks for no others: a clip of as many
    frames, in a fifth of the time."""
    @functools.wraps(encode)
    def wrapped(container: str, video: str = "libx264", *args: Any, coder: Any = None,
                **options: Any) -> bytes:
        return encode(container, video, *args, coder={**QUICK.get(video, {}), **(coder or {})},
                      **options)

    return wrapped


def install() -> None:
    """Keep what the slow makers make, for all who call them; before any test is loaded. Benchmarks
    that borrow from the tests have their media as they always were."""
    forget_old()
    usual = "benchmarks" in sys.modules
    from needlewright.demo import clips, scenes

    encode = kept(clips.encode)
    clips.encode, clips.record = encode if usual else quickly(encode), kept(clips.record)
    scenes.draw_photo = kept(scenes.draw_photo)
    families = importlib.import_module("benchmarks.families")
    families.photograph = kept(families.photograph)
