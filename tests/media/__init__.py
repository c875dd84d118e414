"""Made-up media of every format, written by real encoders, and by tiny writers where none exists.

`samples()` yields all of them; each is a whole file. Contents come from seeds, so that a sample is
the same on every machine that has the same encoders.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from tests.kept import kept
from tests.media import clips, documents, pictures, raws, sounds


@dataclass(frozen=True)
class Sample:
    """A whole file: what walks it (`format`), what it turns out to be (`variant`), a name."""

    format: str
    variant: str
    name: str
    data: bytes


MAKERS = (pictures.make, raws.make, clips.make, sounds.make, documents.make)


@cache
def samples() -> tuple[Sample, ...]:
    """One of each kind and way of coding, a few kilobytes to a few hundred each."""
    return tuple(Sample(*one) for one in kept(_all)())


def _all() -> list[tuple[str, str, str, bytes]]:
    return [one for maker in MAKERS for one in maker()]


def of_format(form: str) -> list[Sample]:
    """The samples that format `form` walks."""
    return [s for s in samples() if s.format == form]
