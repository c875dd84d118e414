"""Further records of NTFS: those that hold what does not fit in a file's own record.

The own record lists them, but a removed file's list is unmade entry by entry, or its clusters are
another's. Each further record names the one that it belongs to, with its sequence (the kernel's
fs/ntfs3/ntfs.h, struct MFT_REC, `parent_ref`): what the list lost is found by that.
"""

from __future__ import annotations

import itertools
import struct
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

import numpy as np

from needlewright.core.volumes.ntfs.records import (
    EARLIEST,
    HEAD,
    IN_USE,
    LATEST,
    NAME,
    RECORD_END,
    Attribute,
    attributes,
    file_name,
)

BASE_WORD = 16  # of a record, where the file that it belongs to is named: 48 bits, then 16
END_MARK, NAME_HEAD = 8, 24  # bytes; the head of an attribute that the record itself holds
MAX_FURTHER = 1 << 13  # records of one file; a list of attributes has room for no more
Ref = tuple[int, int]  # record, sequence
Blocks = Iterable[tuple[int, bytes, list[bool]]]


class FurtherRecords:
    """The further records of a table, by the file that they say they belong to."""

    def __init__(self, blocks: Blocks, record_size: int) -> None:
        """`blocks`: as of `NtfsTable._blocks`."""
        self._gone: dict[Ref, list[int]] = defaultdict(list)
        self._used: dict[Ref, list[int]] = defaultdict(list)
        for first, block, sound in blocks:
            words = np.frombuffer(block, "<u2").reshape(-1, record_size // 2)
            named = words[:, BASE_WORD : BASE_WORD + 4]
            for row in np.flatnonzero(np.array(sound, np.bool_) & named.any(axis=1)).tolist():
                low, middle, high, sequence = named[row].tolist()
                home = self._used if words[row, 11] & IN_USE else self._gone
                home[low | middle << 16 | high << 32, sequence].append(first + row)

    def of(self, number: int, sequence: int, in_use: bool) -> Sequence[int]:
        """The further records of a file; `sequence`: of its own record as it is now.

        A record that is put out of use counts its sequence on.
        """
        if in_use:
            return self._used.get((number, sequence), ())
        before = (sequence - 1) & 0xFFFF
        return [*self._gone.get((number, before), ()), *self._gone.get((number, sequence), ())]

    def removed(self) -> Iterator[tuple[Ref, Sequence[int]]]:
        """(file, its further records) of all removed ones."""
        yield from sorted(self._gone.items())


def merged(own: list[Attribute], records: Iterable[bytes | None]) -> list[Attribute]:
    """`own` and the attributes of further records, but for those that begin where one is known."""
    found = list(own)
    known = {(a.kind, a.name, a.first_vcn) for a in own if a.value is None}
    for record in itertools.islice(records, MAX_FURTHER):
        for attribute in attributes(record) if record is not None else ():
            place = attribute.kind, attribute.name, attribute.first_vcn
            if attribute.value is not None or place not in known:
                found.append(attribute)
                if attribute.value is None:
                    known.add(place)
        found += taken_out(record) if record is not None else []
    return found


def taken_out(record: bytes) -> list[Attribute]:
    """The name that was the last attribute of a removed file's record, if any.

    Taking it out writes the mark of the end over the first eight bytes of its head: what stands
    behind these is as it was.
    """
    head, used = HEAD.unpack_from(record), struct.unpack_from("<I", record, 24)[0]
    at = used - END_MARK
    if head[7] & IN_USE or not 24 <= at <= len(record) - NAME_HEAD or (
            record[at : at + 4] != RECORD_END):
        return []
    length, value_at = struct.unpack_from("<IH", record, at + 16)
    value = record[at + NAME_HEAD : at + NAME_HEAD + length]
    name = file_name(value)
    if value_at != NAME_HEAD or name is None or length != 66 + 2 * value[64] or not all(
            EARLIEST < stamp < LATEST for stamp in name.stamps):
        return []
    return [Attribute(NAME, "", 0, value, at + NAME_HEAD, size=length, initialized=length)]
