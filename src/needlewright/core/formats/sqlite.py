"""SQLite databases (sqlite.org file format, sections 1.2-1.6), as phones and programs keep them.

Big-endian. The header states the number of pages; what the pages hold is checked by SQLite itself,
in the isolated worker.
"""

from __future__ import annotations

from needlewright.core.databases.subjects import SUBJECTS, subject_of
from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

MAGIC = b"SQLite format 3\0"
LEAF_TABLE, INNER_TABLE = 0x0D, 0x05
#: By what its tables are about; one format all the same.
ABOUT = {subject: Variant("sqlite", "sqlite", Kind(subject), Decoder.DATABASE)
         for subject in SUBJECTS}


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the database at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    page_bytes = view.big(start + 16, 2)
    page_bytes = 65536 if page_bytes == 1 else page_bytes
    changes, pages, valid_for = (view.big(start + at, 4) for at in (24, 28, 92))
    fractions = view.take(start + 21, 3)
    if page_bytes < 512 or page_bytes & (page_bytes - 1) or fractions != b"\x40\x20\x20":
        raise FormatError("header-makes-no-sense", offset=start + 16)
    if view.take(start + 100, 1)[0] not in (LEAF_TABLE, INNER_TABLE):
        raise FormatError("first-page-without-schema", offset=start + 100)
    parts.add("header", start, start + 100)
    problem: FormatError | None = None
    end = start + pages * page_bytes
    if pages == 0 or changes != valid_for:
        # Written by a version that did not keep the count (1.3.7): only the first page is sure.
        problem = FormatError("page-count-unstated",
                              offset=min(start + page_bytes, view.stop))
        end = min(view.stop, start + page_bytes)
    elif end > view.stop:
        problem, end = FormatError("data-ends", offset=view.stop), view.stop
    parts.add("pages", start + 100, end)
    return finish(
        start, end, problem, Facts(extra={"pages": f"{pages:,} of {page_bytes:,} bytes"}), parts,
        (structure(problem, start, len(parts)), end_mark(problem is None, counted=True),
         Check("index", Outcome.PASS, "schema-there")),
        share=(end - start) / max(1, pages * page_bytes) if pages else 0.5,
        variant=ABOUT.get(subject_of(Window(source, Span(start, end)))),
        # Nothing in a page tells a foreign one.
        verified=start + page_bytes if problem else None, opaque=[(start + page_bytes, end)])


register(Format(
    name="sqlite", kind=Kind.OTHER, extension="sqlite", signatures=(Signature(MAGIC),),
    accept=lambda head: head[:16] == MAGIC, walk=walk, decoder=Decoder.DATABASE,
    variants=tuple(ABOUT.values()),
    aliases={"db": "sqlite"}, joined="around",
))
