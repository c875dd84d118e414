"""Addresses of devices: `ptpip://HOST[:PORT]`, `usb:[BUS.ADDRESS]` for what is plugged in, and
`phone:NAME` for one that is known by name.

Known phones are files `NAME.json` in the program's folder of phones: {"address", "raw": {…}}.
"""

from __future__ import annotations

import json
import os
import re
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs

from needlewright.core.errors import SourceError
from needlewright.core.phones.link import Link, Lost
from needlewright.core.phones.link_ip import PORT, IpLink
from needlewright.core.phones.link_usb import UsbLink, pipes_to

IP, USB, NAMED = "ptpip://", "usb:", "phone:"
ADDRESS = re.compile(r"ptpip://(\[[0-9a-fA-F:.]+\]|[^\s:/\[\]@?#]+)(?::(\d{1,5}))?/?")
PLUGGED = re.compile(r"usb:(\d{1,4}\.\d{1,4})?")
NAME = re.compile(r"[\w][\w .+-]{0,63}")
MOST_BYTES = 1 << 16
BLOCKS = ("nbd://", "nbd+unix://")  # what raw storage is handed out as, and nothing else


@dataclass(frozen=True, slots=True)
class Known:
    """A phone that is known by name. `raw`: addresses of its raw storage by name, where it is
    handed out."""

    name: str
    address: str
    raw: dict[str, str] = field(default_factory=dict)


def folder() -> Path:
    """Where known phones are kept."""
    set_one = os.environ.get("NEEDLEWRIGHT_PHONES")
    return Path(set_one) if set_one else Path(
        platformdirs.user_data_dir("needlewright")) / "phones"


def known_phones() -> list[Known]:
    """All that are known, by name."""
    try:
        files = sorted(folder().glob("*.json"), key=lambda file: file.stem)
    except OSError:
        return []
    return [one for file in files if (one := _known_in(file)) is not None]


def _known_in(file: Path) -> Known | None:
    try:
        with open(file, "rb") as opened:
            told = json.loads(opened.read(MOST_BYTES))
        raw = told.get("raw") or {}
        if (ADDRESS.fullmatch(told["address"]) is None) or NAME.fullmatch(file.stem) is None:
            return None
        return Known(file.stem, told["address"],
                     {str(k): v for k, v in raw.items()
                      if isinstance(v, str) and v.startswith(BLOCKS)})
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None


def resolved(spec: str) -> str:
    """The address that `spec` stands for now. Raises SourceError."""
    if not spec.startswith(NAMED):
        return spec
    name = spec.removeprefix(NAMED)
    for one in known_phones():
        if one.name == name:
            return one.address
    raise SourceError("phone-unknown", name=name)


def is_address(spec: str) -> bool:
    """Whether `spec` is of this kind."""
    return spec.startswith((IP, USB, NAMED))


def checked(spec: str) -> str:
    """`spec` as it is kept; SourceError where it is no address."""
    if spec.startswith(IP):
        hit = ADDRESS.fullmatch(spec)
        if hit is None or (hit[2] and not 0 < int(hit[2]) < 65_536):
            raise SourceError("address-wrong", path=spec)
    elif spec.startswith(USB):
        if PLUGGED.fullmatch(spec) is None:
            raise SourceError("address-wrong", path=spec)
    elif NAME.fullmatch(spec.removeprefix(NAMED)) is None:
        raise SourceError("phone-unknown", name=spec.removeprefix(NAMED))
    return spec


def link_to(address: str) -> Link:
    """A connection to the device at an address that is none by name. Raises Lost, Unwelcome."""
    plugged = PLUGGED.fullmatch(address)
    if plugged is not None:
        return UsbLink(pipes_to(plugged[1] or ""))
    hit = ADDRESS.fullmatch(address)
    if hit is None:
        raise Lost("unseen")
    return IpLink(hit[1].strip("[]"), int(hit[2] or PORT))
