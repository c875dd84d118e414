"""Files that are sealed with a password: AES-256-GCM (NIST SP 800-38D) in pieces, the key by scrypt
(RFC 7914). The form is in `docs/formats/phone-backup.md`.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from needlewright.core.errors import FormatError
from needlewright.core.sources.source import Source

MARK = b"NWSEAL1\0"
HEAD = struct.Struct("<8sQ")  # the mark, bytes of the content
PIECE, NONCE, TAG = 1 << 20, 12, 16
KEY_BYTES = 32
MOST_COST, MOST_MEMORY = 1 << 20, 1 << 30  # of scrypt; more would only wear this computer out
PROOF, PROVEN = "proof", b"needlewright"


@dataclass(frozen=True, slots=True)
class Scheme:
    """How a key is made of a password, and what shows that it is the one."""

    salt: bytes
    cost: int
    block: int
    lanes: int
    proof: bytes

    @classmethod
    def of(cls, told: object) -> Scheme:
        """From the property list; FormatError where it is not as it should be."""
        if not isinstance(told, dict) or told.get("Cipher") != "AES-256-GCM" or (
                told.get("Derivation") != "scrypt"):
            raise FormatError("coded-data-damaged", 0)
        salt, proof = told.get("Salt"), told.get("Proof")
        numbers = [told.get(name) for name in ("N", "R", "P")]
        if not isinstance(salt, bytes) or not isinstance(proof, bytes) or not all(
                isinstance(n, int) and n > 0 for n in numbers) or not 8 <= len(salt) <= 64:
            raise FormatError("coded-data-damaged", 0)
        cost, block, lanes = (int(n) for n in numbers if n)
        if cost > MOST_COST or cost & (cost - 1) or 128 * cost * block > MOST_MEMORY or lanes > 16:
            raise FormatError("coded-data-damaged", 0)
        return cls(salt, cost, block, lanes, proof)

    def key(self, password: str) -> bytes | None:
        """The key that `password` makes; None where it is not the one."""
        key = Scrypt(salt=self.salt, length=KEY_BYTES, n=self.cost, r=self.block,
                     p=self.lanes).derive(password.encode())
        try:
            opened = AESGCM(key).decrypt(self.proof[:NONCE], self.proof[NONCE:], PROOF.encode())
        except (InvalidTag, ValueError):
            return None
        return key if opened == PROVEN else None


def bound_to(name: str, number: int, last: bool) -> bytes:
    """What a piece is bound to: its file's name, its number, and whether it is the last."""
    return name.encode() + struct.pack("<QB", number, last)


def opened(source: Source, key: bytes, name: str, begin: int = 0) -> Iterator[bytes]:
    """The content of a sealed file from byte `begin` on. FormatError where it is none, or a piece
    is not as it was sealed."""
    head = source.read_at(0, HEAD.size)
    if len(head) < HEAD.size or not head.startswith(MARK):
        raise FormatError("coded-data-damaged", 0)
    size = HEAD.unpack(head)[1]
    cipher, last = AESGCM(key), max(0, -(-size // PIECE) - 1)
    for number in range(begin // PIECE, last + 1):
        at = HEAD.size + number * (PIECE + NONCE + TAG)
        length = min(PIECE, size - number * PIECE) + NONCE + TAG
        raw = source.read_at(at, length) if at < source.size else b""
        try:
            if len(raw) < length:
                raise ValueError
            data = cipher.decrypt(raw[:NONCE], raw[NONCE:], bound_to(name, number, number == last))
        except (InvalidTag, ValueError) as error:
            raise FormatError("coded-data-damaged", at) from error
        yield data[max(0, begin - number * PIECE) :]
