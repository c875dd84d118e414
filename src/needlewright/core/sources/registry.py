"""Opening a source by what the user calls it. A module `open_*` registers each way, here or among
the shelves, which are built of more than what lies below this package."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from needlewright.core.errors import SourceError
from needlewright.core.registry import Registry
from needlewright.core.sources.source import Source


@dataclass(frozen=True, slots=True)
class Opener:
    """A way to open sources.

    `claims(spec)`: is this one for it; `whole_name(spec)`: the same name from any working
    directory; `open(spec, direct)`: a source, or SourceError; `short_name(spec)`: what to call it;
    `elsewhere(spec, size, serial)`: other names under which such a medium may be back;
    `told_of(spec)`: its serial number and model; `by_scheme`: it is for what begins with a word of
    its own; `lies_at(spec)`: where on this computer it lies.
    """

    name: str
    claims: Callable[[str], bool]
    whole_name: Callable[[str], str]
    open: Callable[[str, bool], Source]
    short_name: Callable[[str], str]
    elsewhere: Callable[[str, int, str], Iterable[str]] = lambda spec, size, serial: ()
    told_of: Callable[[str], tuple[str, str]] = lambda spec: ("", "")
    by_scheme: bool = False
    lies_at: Callable[[str], str] = lambda spec: spec


_openers: Registry[Opener] = Registry("needlewright.core.sources", prefix="open_",
                                      also=("needlewright.core.shelves",))


def register(opener: Opener) -> Opener:
    """Add a way; ValueError if its name is taken."""
    return _openers.add(opener.name, opener)


def open_source(spec: str, *, direct: bool = False) -> Source:
    """The source that `spec` names: a path, a first numbered piece, an nbd: address.

    `direct`: past the page cache where that is possible, with aligned reads. Raises SourceError.
    """
    return _opener(spec).open(spec, direct)


def whole_name(spec: str) -> str:
    """`spec` as it is kept in a job: valid from any working directory."""
    return _opener(spec).whole_name(spec)


def short_name(spec: str) -> str:
    """What to call the source at `spec`, without opening it."""
    return _opener(spec).short_name(spec)


def lies_at(spec: str) -> str:
    """Where on this computer the source at `spec` lies, which must not be written to."""
    try:
        return _opener(spec).lies_at(spec)
    except SourceError:
        return spec


def elsewhere(spec: str, size: int, serial: str) -> Iterable[str]:
    """Other names under which the medium at `spec`, of `size` bytes, may be back after it was away.

    Found without reading any medium: others that are attached are none of our business.
    """
    return _opener(spec).elsewhere(spec, size, serial)


def told_of(spec: str) -> tuple[str, str]:
    """(serial number, model) of the device at `spec`; "" for what nobody tells."""
    return _opener(spec).told_of(spec)


def _opener(spec: str) -> Opener:
    # Whoever is named at the front of it comes before who asks whether there is such a file.
    ways = sorted(_openers.all().values(), key=lambda way: not way.by_scheme)
    for opener in ways:
        if opener.claims(spec):
            return opener
    raise SourceError("source-unknown", path=spec)
