"""Documents, archives and databases, written by the standard library and Pillow."""

from __future__ import annotations

import contextlib
import io
import sqlite3
import tempfile
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path

from needlewright.demo import scenes

PROSE = "05:58 Reedmouth weir, mist, two otters heading upstream.\n" * 120


class _Unseekable(io.RawIOBase):
    """A sink that cannot go back, so that archives keep their lengths behind the data."""

    def __init__(self) -> None:
        self.data = bytearray()

    def writable(self) -> bool:
        return True

    def write(self, block: object) -> int:
        self.data += bytes(block)  # type: ignore[call-overload]
        return len(bytes(block))  # type: ignore[call-overload]


def archive(members: Mapping[str, str], streamed: bool = False) -> bytes:
    sink = _Unseekable() if streamed else io.BytesIO()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as out:
        for name, text in members.items():
            info = zipfile.ZipInfo(name, (2031, 5, 12, 5, 58, 12))
            info.compress_type = zipfile.ZIP_STORED if name == "mimetype" else zipfile.ZIP_DEFLATED
            out.writestr(info, text)
    return bytes(sink.data) if isinstance(sink, _Unseekable) else sink.getvalue()


def office(folder: str) -> bytes:
    return archive({"[Content_Types].xml": "<Types/>", "_rels/.rels": "<Relationships/>",
                    f"{folder}/document.xml": f"<body>{PROSE}</body>"})


def open_document(kind: str) -> bytes:
    return archive({"mimetype": f"application/vnd.oasis.opendocument.{kind}",
                    "content.xml": f"<body>{PROSE}</body>", "META-INF/manifest.xml": "<m/>"})


def database(rows: int = 300) -> bytes:
    with sqlite3.connect(":memory:") as store:
        store.execute("CREATE TABLE sightings (at TEXT, place TEXT, otters INTEGER)")
        store.execute("CREATE INDEX by_place ON sightings (place)")
        store.executemany("INSERT INTO sightings VALUES (?, ?, ?)", [
            (f"2031-05-12T05:{i % 60:02}", f"Reedmouth weir {i}", i % 4) for i in range(rows)])
        store.commit()
        return store.serialize()


def database_log(rows: int = 300) -> bytes:
    """What was written last to a database that is in use."""
    with tempfile.TemporaryDirectory() as folder, contextlib.closing(
            sqlite3.connect(f"{folder}/a.db", isolation_level=None)) as store:
        store.execute("PRAGMA journal_mode=WAL")
        store.execute("CREATE TABLE sightings (at TEXT, place TEXT, otters INTEGER)")
        store.execute("BEGIN")
        store.executemany("INSERT INTO sightings VALUES (?, ?, ?)", [
            (f"2031-05-12T05:{i % 60:02}", f"Reedmouth weir {i}", i % 4) for i in range(rows)])
        store.execute("COMMIT")
        return Path(f"{folder}/a.db-wal").read_bytes()


def document(updated: bool = False) -> bytes:
    out = io.BytesIO()
    pages = [scenes.draw_photo(110 + i, 160, 120, "Fernbeck Valley") for i in range(2)]
    pages[0].save(out, "PDF", save_all=True, append_images=pages[1:])
    data = out.getvalue()
    if not updated:
        return data
    table = len(data) + len(b"90 0 obj\n(note)\nendobj\n")
    return data + b"90 0 obj\n(note)\nendobj\nxref\n90 1\n%010d 00000 n \n" % len(data) + (
        b"trailer\n<< /Size 91 >>\nstartxref\n%d\n%%%%EOF\n" % table)


def make() -> Iterator[tuple[str, str, str, bytes]]:
    """(format, variant, name, file) of each."""
    yield "zip", "zip", "plain", archive({f"log {i}.txt": PROSE * (i + 1) for i in range(4)})
    yield "zip", "zip", "streamed", archive({"log.txt": PROSE, "b.txt": PROSE}, streamed=True)
    yield "zip", "docx", "text", office("word")
    yield "zip", "xlsx", "sheet", office("xl")
    yield "zip", "pptx", "slides", office("ppt")
    yield "zip", "odt", "text", open_document("text")
    yield "sqlite", "sqlite", "sightings", database()
    yield "sqlite-log", "sqlite-log", "sightings", database_log()
    yield "pdf", "pdf", "pictures", document()
    yield "pdf", "pdf", "updated", document(updated=True)
