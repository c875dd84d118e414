"""What the rows of a SQLite database are about, told by its tables and their columns alone."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from needlewright.core.databases.pages import Pages
from needlewright.core.databases.schema import Table, read_table
from needlewright.core.databases.talk import LENGTHS, TEXTS, TITLES, WHEN
from needlewright.core.databases.trees import TABLE_LEAF, leaves_of, read_cell
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source

SUBJECTS = ("message", "call", "contact", "note")  # where several fit, the first one
MOST_PAGES, MOST_TABLES, MOST_SQL = 64, 500, 1 << 20  # of a schema that is looked at; characters
#: Parts of names of tables and files. Longer words stand for what begins with them.
NAMES = {
    "message": ("message", "sms", "mms", "chat"), "call": ("call",),
    "contact": ("contact", "people", "person", "phonebook", "phone_book", "addressbook",
                "address_book"),
    "note": ("note", "memo"),
}
PARTNERS = frozenset(("address", "number", "phone_number", "sender", "recipient", "from", "contact",
                      "caller", "callee"))
PERSONS = frozenset(("name", "display_name", "full_name", "first_name", "last_name", "first",
                     "last", "given_name", "family_name"))
REACHED = frozenset(("number", "phone", "phone_number", "mobile", "telephone", "tel", "email",
                     "mail", "address"))


def subject_of(source: Source) -> str:
    """One of SUBJECTS; "" for what is about none of them, and where its tables cannot be read."""
    try:
        found = {subject for table in _tables(Pages(source)) for subject in _subjects(table)}
    except (FormatError, SourceError):  # what it is about is no reason to cut it off there
        return ""
    return next((subject for subject in SUBJECTS if subject in found), "")


def subject_by_name(stem: str) -> str:
    """One of SUBJECTS by the name of a file or table; "" for none."""
    stem = stem.lower()
    words = stem.replace("-", "_").replace(".", "_").split("_")
    return next((subject for subject in SUBJECTS for name in NAMES[subject]
                 if (name in stem if "_" in name else
                     any(word.startswith(name) for word in words))), "")


def _tables(pages: Pages) -> Iterator[Table]:
    """The tables of the schema, from its first pages; FormatError where there is no header."""
    read, number = 0, 0
    for leaf in islice(leaves_of(pages, 1, lambda page: None), MOST_PAGES):
        if leaf.kind != TABLE_LEAF:
            continue
        for at in leaf.cells:
            number += 1
            if number > MOST_TABLES:
                return
            try:
                values = read_cell(pages, leaf, at).values
            except FormatError:
                continue
            if len(values) < 5 or values[0] != "table" or not isinstance(values[4], str):
                continue
            read += len(values[4])
            if read > MOST_SQL:
                return
            table = read_table(str(values[1]), 1, values[4])
            if table is not None:
                yield table


def _subjects(table: Table) -> Iterator[str]:
    columns = {column.name.lower() for column in table.columns}
    named = subject_by_name(table.name)
    text, when = columns.intersection(TEXTS), columns.intersection(WHEN)
    if text and when and (columns & PARTNERS or named == "message"):
        yield "message"
    if columns.intersection(LENGTHS) and when and (columns & PARTNERS or named == "call"):
        yield "call"
    if columns & PERSONS and not text and not columns.intersection(LENGTHS) and (
            columns & REACHED or named == "contact"):
        yield "contact"
    if text and (named == "note" or (columns.intersection(TITLES) and not columns & PARTNERS)):
        yield "note"
