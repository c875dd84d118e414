"""What a device tells of itself, its stores and its objects (ISO 15740, 5.5; MTP 1.1, 5 and
appendix E). Little-endian; strings are counted UTF-16. Nothing is allocated by a count before it is
known that so much is there.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace

from needlewright.core.errors import FormatError
from needlewright.core.phones import codes

MAX_VALUES = 1 << 20
UNKNOWN_SIZE = 0xFFFFFFFF
#: Bytes of the simple data types (MTP 1.1, 3.2.1); 0x4000 more is an array of them.
WIDTHS = {1: 1, 2: 1, 3: 2, 4: 2, 5: 4, 6: 4, 7: 8, 8: 8, 9: 16, 10: 16}
ARRAY, STRING = 0x4000, 0xFFFF


@dataclass(frozen=True, slots=True)
class Device:
    """What a device says that it is. `operations`: what it can be asked."""

    maker: str
    model: str
    version: str
    serial: str
    extension: int
    operations: frozenset[int]


@dataclass(frozen=True, slots=True)
class Store:
    """A store; sizes in bytes. `kind`: 1 and 2 are fixed, 3 and 4 removable (ISO 15740, 5.5.3)."""

    number: int
    kind: int
    capacity: int
    free: int
    label: str

    @property
    def removable(self) -> bool:
        return self.kind in (2, 4)


@dataclass(frozen=True, slots=True)
class Item:
    """An object of a store, as the device tells of it; `size` None where it does not tell. Dates
    as they are: YYYYMMDDThhmmss, with or without a zone. `refused`: the code for which it tells
    nothing of an object that it listed."""

    handle: int
    store: int = 0
    form: int = 0
    size: int | None = None
    parent: int = 0
    name: str = ""
    created: str = ""
    modified: str = ""
    hidden: bool = False
    refused: int = 0

    @property
    def is_folder(self) -> bool:
        return self.form == codes.FOLDER


class Reader:
    """Numbers and strings one behind the other; FormatError where the data ends before."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, length: int) -> bytes:
        if length < 0 or self.at + length > len(self.data):
            raise FormatError("data-ends", offset=self.at)
        part = self.data[self.at : self.at + length]
        self.at += length
        return part

    def number(self, width: int) -> int:
        return int.from_bytes(self.take(width), "little")

    def string(self) -> str:
        count = self.number(1)
        return self.take(2 * count).decode("utf-16-le", "replace").split("\0")[0]

    def strings(self, count: int) -> list[str]:
        """So many strings; "" for those that are missing, as some devices end early."""
        found: list[str] = []
        try:
            while len(found) < count:
                found.append(self.string())
        except FormatError:
            found += [""] * (count - len(found))
        return found

    def numbers(self, width: int) -> list[int]:
        count = self.number(4)
        part = self.take(count * width) if count <= MAX_VALUES else self.take(len(self.data) + 1)
        return [int.from_bytes(part[i : i + width], "little") for i in range(0, len(part), width)]

    def value(self, kind: int) -> int | str | None:
        """A value of a data type; None for an array, which is passed over."""
        if kind == STRING:
            return self.string()
        width = WIDTHS.get(kind & ~ARRAY)
        if width is None:
            raise FormatError("data-type-unknown", offset=self.at, number=kind)
        if kind & ARRAY:
            self.numbers(width)
            return None
        return self.number(width)


def device_from(data: bytes) -> Device:
    """A DeviceInfo dataset (5.5.1)."""
    reader = Reader(data)
    reader.number(2)
    extension = reader.number(4)
    reader.number(2)
    reader.string()
    reader.number(2)
    operations = frozenset(reader.numbers(2))
    try:
        for _ in range(4):  # events, properties, formats of captures and of images
            reader.numbers(2)
    except FormatError:
        reader.at = len(data)  # what it can be asked is known
    maker, model, version, serial = reader.strings(4)
    return Device(maker, model, version, serial, extension, operations)


def store_from(number: int, data: bytes) -> Store:
    """A StorageInfo dataset (5.5.3)."""
    reader = Reader(data)
    kind, _, _ = (reader.number(2) for _ in range(3))
    capacity, free = reader.number(8), reader.number(8)
    reader.number(4)
    described, label = reader.strings(2)
    return Store(number, kind, capacity, free, described or label)


def numbers_from(data: bytes) -> list[int]:
    """A list of handles, or of stores."""
    return Reader(data).numbers(4)


def item_from(handle: int, data: bytes) -> Item:
    """An ObjectInfo dataset (5.5.2)."""
    reader = Reader(data)
    store, form = reader.number(4), reader.number(2)
    reader.number(2)
    size = reader.number(4)
    reader.take(2 + 6 * 4)  # of the thumbnail and the picture
    parent = reader.number(4)
    reader.take(2 + 4 + 4)
    name = reader.string()
    created, modified = reader.strings(2)
    return Item(handle, store, form, None if size == UNKNOWN_SIZE else size, parent, name,
                created, modified)


#: Property -> the field of `Item` that it fills.
FIELDS = {codes.STORAGE: "store", codes.FORMAT: "form", codes.SIZE: "size",
          codes.PARENT: "parent", codes.NAME: "name", codes.CREATED: "created",
          codes.MODIFIED: "modified", codes.HIDDEN: "hidden"}
TEXTS = frozenset(("name", "created", "modified"))


def items_from(data: bytes) -> Iterator[Item]:
    """An ObjectPropList dataset (MTP 1.1, E.2.1.1), object by object; what was told before it
    breaks off comes before the FormatError."""
    reader = Reader(data)
    told: dict[int, dict[str, int | str | bool]] = {}
    problem: FormatError | None = None
    try:
        for _ in range(reader.number(4)):
            handle, code, kind = reader.number(4), reader.number(2), reader.number(2)
            value = reader.value(kind)
            field = FIELDS.get(code)
            mine = told.setdefault(handle, {})
            if field is not None and value is not None and (field in TEXTS) == isinstance(
                    value, str):
                mine[field] = bool(value) if field == "hidden" else value
    except FormatError as error:
        problem = error
    for handle, fields in told.items():
        yield replace(Item(handle), **fields)  # type: ignore[arg-type]
    if problem is not None:
        raise problem


def text(value: str) -> bytes:
    """A string as it is sent; at most 254 characters."""
    coded = (value[:254] + "\0").encode("utf-16-le") if value else b""
    return struct.pack("B", len(coded) // 2) + coded


def new_item(store: int, parent: int, form: int, name: str, size: int,
             modified: str = "") -> bytes:
    """An ObjectInfo dataset (5.5.2) of what is to be put there."""
    association = 1 if form == codes.FOLDER else 0  # a generic folder (table 34)
    return (struct.pack("<IHHI", store, form, 0, min(size, UNKNOWN_SIZE)) + bytes(2 + 6 * 4)
            + struct.pack("<IHII", 0 if parent == codes.EVERY else parent, association, 0, 0)
            + text(name) + text(modified) + text(modified) + text(""))
