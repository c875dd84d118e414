"""Lists of names that are given for files of a shelf."""

from __future__ import annotations

from collections.abc import Sequence

from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.sources.shelf import DistantShelf

MOST_NAMES = 64 << 20  # bytes of a list of names
MOST_TOLD = 3  # names that are said to be unknown


def shelf_at(spec: str) -> DistantShelf:
    """What is at `spec`, opened; SourceError where it is no shelf that is elsewhere."""
    from needlewright.core.sources.registry import open_source

    source = open_source(spec)
    if not isinstance(source, DistantShelf):
        source.close()
        raise SourceError("inside-no-shelf", path=spec)
    return source


def keys_of(spec: str, file: str) -> frozenset[str]:
    """The keys of what the list in `file` names on the shelf at `spec`. Errors where it names what
    is not there, or nothing."""
    from needlewright.core.search.shelf_names import named_keys

    names = names_in(file)
    with shelf_at(spec) as shelf:
        keys, unknown = named_keys(shelf.offered(), names)
    if unknown:
        raise NeedlewrightError("names-unknown", path=spec, count=len(unknown),
                                names=", ".join(unknown[:MOST_TOLD]))
    return keys


def names_in(file: str) -> Sequence[str]:
    """The paths that the list in `file` names; an error where it is none."""
    try:
        with open(file, "rb") as opened:
            data = opened.read(MOST_NAMES + 1)
    except OSError as error:
        raise NeedlewrightError("names-unread", path=file,
                                reason=error.strerror or str(error)) from error
    if len(data) > MOST_NAMES:
        raise NeedlewrightError("names-unread", path=file, reason="it is too long")
    names = [line for line in data.decode("utf-8", "surrogateescape").splitlines() if line]
    if not names:
        raise NeedlewrightError("names-unread", path=file, reason="it names nothing")
    return names
