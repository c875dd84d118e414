"""The tag files of a bag: BagIt (RFC 8493), written as version 0.97, which every reader knows.

The hashes of the payload were made while it was written, so that nothing is read for them again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from datetime import date
from pathlib import Path

DECLARATION = "BagIt-Version: 0.97\nTag-File-Character-Encoding: UTF-8\n"
ALGORITHM = "sha256"


def write_bag(bag: Path, payload: Mapping[str, str], info: Mapping[str, str], octets: int) -> None:
    """Write the tag files into the folder `bag`.

    `payload`: paths ("data/...") with their hashes, of `octets` bytes in all. Other files that
    already stand in `bag` are tag files too. The tag manifest comes last and covers all of them.
    """
    told = {**info, "Bagging-Date": date.today().isoformat(),
            "Payload-Oxum": f"{octets}.{len(payload)}"}
    _write(bag / "bagit.txt", DECLARATION)
    _write(bag / "bag-info.txt", "".join(
        f"{name}: {' '.join(told[name].split())}\n" for name in sorted(told)))
    _write(bag / f"manifest-{ALGORITHM}.txt", _lines(payload.items()))
    tags = sorted(path for path in bag.iterdir() if path.is_file())
    _write(bag / f"tagmanifest-{ALGORITHM}.txt", _lines(
        (path.name, hashlib.sha256(path.read_bytes()).hexdigest()) for path in tags))


def _lines(hashes: Iterable[tuple[str, str]]) -> str:
    return "".join(f"{value}  {_quoted(path)}\n" for path, value in sorted(hashes))


def _quoted(path: str) -> str:
    """A path in a manifest: line ends are written as in addresses (section 2.1.3)."""
    return path.replace("\r", "%0D").replace("\n", "%0A")


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8", newline="\n")
