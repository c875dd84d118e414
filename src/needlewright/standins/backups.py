"""The survey's phone backups: written in the layout of `docs/formats/phone-backup.md`."""

from __future__ import annotations

import hashlib
import os
import plistlib
import sqlite3
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from needlewright.core.shelves.backups import layout_manifest as layout
from needlewright.core.shelves.backups import sealing

COST, BLOCK, LANES = 1 << 14, 8, 1


@dataclass(frozen=True, slots=True)
class Backed:
    """A file that is backed up. `removed`, `kept_until`: when it was removed on the phone, and
    until when that keeps it."""

    path: str
    data: bytes
    when: datetime
    removed: datetime | None = None
    kept_until: datetime | None = None


def write_backup(place: Path, device: str, made: datetime, files: Iterable[Backed],
                 password: str | None = None) -> None:
    """Write a backup into the new folder `place`; sealed where there is a `password`."""
    place.mkdir(parents=True)
    key, encryption = _key(password)
    rows: list[tuple[Any, ...]] = []
    for file in files:
        digest = hashlib.sha256(file.data).hexdigest()
        path = place / layout.CONTENT / digest[:2] / digest
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(file.data if key is None else seal(file.data, key, digest))
        rows.append((file.path, len(file.data), _seconds(file.when), _seconds(file.when),
                     _seconds(file.removed), _seconds(file.kept_until), digest))
    with tempfile.TemporaryDirectory() as work:
        whole = Path(work, layout.MANIFEST)
        base = sqlite3.connect(whole)
        base.execute("CREATE TABLE files (path TEXT, size INTEGER, created INTEGER, "
                     "modified INTEGER, removed INTEGER, kept_until INTEGER, sha256 TEXT)")
        base.executemany("INSERT INTO files VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
        base.commit()
        base.close()
        data = whole.read_bytes()
    if key is None:
        (place / layout.MANIFEST).write_bytes(data)
    else:
        (place / layout.SEALED).write_bytes(seal(data, key, "manifest"))
    facts = {"Layout": layout.NAME, "Version": layout.VERSION, "Device": device,
             "Made": made.astimezone(UTC).replace(tzinfo=None), "Complete": True,
             "Items": len(rows), **({"Encryption": encryption} if encryption else {})}
    with (place / layout.FACTS).open("wb") as out:
        plistlib.dump(facts, out)


def seal(data: bytes, key: bytes, name: str) -> bytes:
    """A sealed file of `data` (see `core.shelves.backups.sealing`)."""
    cipher, out = AESGCM(key), [sealing.HEAD.pack(sealing.MARK, len(data))]
    last = max(0, -(-len(data) // sealing.PIECE) - 1)
    for number in range(last + 1):
        nonce = os.urandom(sealing.NONCE)
        piece = data[number * sealing.PIECE : (number + 1) * sealing.PIECE]
        bound = sealing.bound_to(name, number, number == last)
        out.append(nonce + cipher.encrypt(nonce, piece, bound))
    return b"".join(out)


def _key(password: str | None) -> tuple[bytes | None, dict[str, Any] | None]:
    if password is None:
        return None, None
    salt = os.urandom(16)
    key = Scrypt(salt=salt, length=sealing.KEY_BYTES, n=COST, r=BLOCK, p=LANES).derive(
        password.encode())
    nonce = os.urandom(sealing.NONCE)
    proof = nonce + AESGCM(key).encrypt(nonce, sealing.PROVEN, sealing.PROOF.encode())
    return key, {"Cipher": "AES-256-GCM", "Derivation": "scrypt", "Salt": salt, "N": COST,
                 "R": BLOCK, "P": LANES, "Proof": proof}


def _seconds(when: datetime | None) -> int | None:
    return None if when is None else int(when.timestamp())
