"""Files of a ZIP archive that are encrypted with AES.

"AES Encryption Information: Encryption Specification AE-1 and AE-2" (version 1.04): the key by
PBKDF2 (RFC 8018, 5.2) with HMAC-SHA-1 and 1000 rounds, AES in counter mode with a counter of
little-endian order that begins at one, and the first ten bytes of HMAC-SHA-1 over what is stored.
"""

from __future__ import annotations

import hashlib
import hmac
from dataclasses import dataclass

import numpy as np
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from needlewright.core.errors import FormatError

ROUNDS = 1000
VERIFIER, AUTHENTIC = 2, 10  # bytes in front of the data, and behind it
KEY_BYTES = {1: 16, 2: 24, 3: 32}  # by strength
EXTRA, METHOD = 0x9901, 99
AES_BLOCK = 16


@dataclass(frozen=True, slots=True)
class Strength:
    """`version`: 1 (with a CRC-32) or 2 (without); `key`: bytes; `method`: how the data is
    compressed."""

    version: int
    key: int
    method: int

    @property
    def salt(self) -> int:
        return self.key // 2

    @property
    def overhead(self) -> int:
        """Bytes beside the data."""
        return self.salt + VERIFIER + AUTHENTIC


def strength_of(extra: bytes) -> Strength | None:
    """From an extra field 0x9901; None where it is damaged."""
    if len(extra) < 7 or extra[2:4] != b"AE" or extra[4] not in KEY_BYTES:
        return None
    return Strength(int.from_bytes(extra[:2], "little"), KEY_BYTES[extra[4]],
                    int.from_bytes(extra[5:7], "little"))


class Opener:
    """Decrypts one file, in a line. FormatError where the password is not its
    own, as far as two bytes tell."""

    def __init__(self, strength: Strength, salt: bytes, verifier: bytes, password: str) -> None:
        key = hashlib.pbkdf2_hmac("sha1", password.encode(), salt, ROUNDS,
                                  2 * strength.key + VERIFIER)
        if not hmac.compare_digest(key[2 * strength.key :], verifier):
            raise FormatError("coded-data-damaged", 0)
        self._aes = Cipher(algorithms.AES(key[: strength.key]), modes.ECB()).encryptor()
        self._sum = hmac.new(key[strength.key : 2 * strength.key], digestmod="sha1")
        self._next, self._rest = 1, b""

    def open(self, data: bytes) -> bytes:
        """The next bytes in the clear."""
        self._sum.update(data)
        need = len(data) - len(self._rest)
        stream = self._rest
        if need > 0:
            blocks = -(-need // AES_BLOCK)
            counters = np.zeros((blocks, 2), "<u8")
            counters[:, 0] = np.arange(self._next, self._next + blocks, dtype=np.uint64)
            self._next += blocks
            stream += self._aes.update(counters.tobytes())
        self._rest = stream[len(data) :]
        return np.bitwise_xor(np.frombuffer(data, np.uint8),
                              np.frombuffer(stream, np.uint8, len(data))).tobytes()

    def is_authentic(self, told: bytes) -> bool:
        """Whether all that was opened is as it was stored."""
        return hmac.compare_digest(self._sum.digest()[:AUTHENTIC], told)
