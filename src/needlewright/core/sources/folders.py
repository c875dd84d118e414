"""Every file in folders: sorted, links never followed, unreadable folders passed over."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path


def files_in(paths: Iterable[str | os.PathLike[str]]) -> Iterator[Path]:
    """Every regular file among `paths` and in the folders there, sorted within each folder; links
    are not followed, so that no folder is walked twice. A path that is not there is given as it
    is: whoever opens it tells so, and the others are looked at all the same."""
    for given in paths:
        path = Path(given)
        if path.is_dir():
            yield from _files_below(path)
        else:
            yield path


def _files_below(folder: Path) -> Iterator[Path]:
    # A stack of our own: folders may be nested deeper than calls.
    waiting = [folder]
    while waiting:
        here = waiting.pop()
        try:
            with os.scandir(here) as entries:
                inside = sorted(entries, key=lambda entry: entry.name)
        except OSError:
            continue
        deeper = []
        for entry in inside:
            mode = entry.stat(follow_symlinks=False).st_mode if _is_there(entry) else 0
            if stat.S_ISDIR(mode):
                deeper.append(Path(entry.path))
            elif stat.S_ISREG(mode):
                yield Path(entry.path)
        waiting += reversed(deeper)


def _is_there(entry: os.DirEntry[str]) -> bool:
    try:
        entry.stat(follow_symlinks=False)
    except OSError:
        return False
    return True
