"""The bytes of a find, wherever they lie: in pieces, compressed, or in the record itself."""

from __future__ import annotations

from needlewright.core.jobs.rows import FindRecord
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source
from needlewright.core.sources.threads import Thread
from needlewright.core.volumes.codings import CodedThread


def content_of(source: Source, record: FindRecord) -> Source:
    """The file of `record`, whose medium is `source`, as a source of its own."""
    told = record.record
    if told is not None and told.content is not None:
        return MemorySource(told.content[: record.row.size], record.row.name or "")
    if told is not None and told.coded:
        return CodedThread(source, 0, told.coded)
    return Thread(source, record.extents)
