"""Deflate taken up in the middle, and rows of PNG, against zlib and plain readings of the
standards."""

from __future__ import annotations

import random
import unittest
import zlib

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.kernels import deflate
from needlewright.core.kernels.png_rows import unfilter
from tests.examples import examples
from tests.support import noise


def array(data: bytes) -> np.ndarray:
    return np.frombuffer(data, np.uint8)


def text(seed: int, size: int) -> bytes:
    """Words with noise between them: something to refer back to, and something not."""
    rng = random.Random(seed)
    words = [rng.randbytes(rng.randrange(3, 12)) for _ in range(60)]
    out = bytearray()
    while len(out) < size:
        out += rng.choice(words) if rng.random() < 0.8 else rng.randbytes(4)
    return bytes(out[:size])


class DeflateTest(unittest.TestCase):
    @examples(150)
    @given(st.binary(max_size=4000), st.integers(0, 9), st.sampled_from(
        (zlib.Z_DEFAULT_STRATEGY, zlib.Z_FILTERED, zlib.Z_HUFFMAN_ONLY, zlib.Z_RLE, zlib.Z_FIXED)))
    def test_it_decodes_what_zlib_codes(self, data, level, strategy):
        packer = zlib.compressobj(level, zlib.DEFLATED, -15, 9, strategy)
        coded = packer.compress(data) + packer.flush()
        values, bit, reason = deflate.follow(array(coded), 0, len(data) + 1)
        self.assertEqual((bytes(values.astype(np.uint8)), reason), (data, deflate.FINAL))
        self.assertLess(len(coded) * 8 - bit, 8)
        if data:
            short, _, reason = deflate.follow(array(coded), 0, len(data) - 1)
            self.assertEqual(reason, deflate.FULL)
            self.assertLess(short.size, len(data))

    def test_a_block_in_the_middle_is_found_and_what_it_lacks_is_unknown(self):
        for seed in range(4):
            data = text(seed, 300_000)
            coded = zlib.compress(data, 6)[2:-4]
            begin = len(coded) * 4
            start = deflate.next_start(array(coded), begin)
            self.assertIsNotNone(start)
            values, _, reason = deflate.follow(array(coded), start, len(data))
            self.assertEqual(reason, deflate.FINAL)
            truth = array(data)[-values.size :]
            known = values >= 0
            self.assertTrue((values[known] == truth[known]).all())
            self.assertTrue(0 < known.mean() < 1)

    def test_blocks_that_refer_to_nothing_before_them_are_known_wholly(self):
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        first = packer.compress(text(1, 20_000)) + packer.flush(zlib.Z_FULL_FLUSH)
        data = text(2, 20_000)
        second = packer.compress(data) + packer.flush()
        values, _, reason = deflate.follow(array(first + second), 8 * len(first), len(data))
        self.assertEqual((bytes(values.astype(np.uint8)), reason), (data, deflate.FINAL))
        start = deflate.next_start(array(noise(3000) + second), 0)
        self.assertEqual(start, 8 * 3000)

    def test_noise_holds_no_block(self):
        self.assertIsNone(deflate.next_start(array(noise(100_000, 9)), 0))
        self.assertIsNone(deflate.next_start(array(b""), 0))

    @examples(80)
    @given(st.binary(min_size=1, max_size=600), st.integers(0, 40), st.integers(0, 2000))
    def test_any_bytes(self, data, bit, most):
        values, at, reason = deflate.follow(array(data), bit, most)
        self.assertTrue(values.size <= most and at <= max(bit, len(data) * 8) and 0 <= reason < 4)
        deflate.next_start(array(data), bit)


def plain_rows(rows: list[bytes], step: int) -> list[bytes]:
    """W3C PNG, 9.2 to 9.4, byte by byte."""
    out: list[bytes] = []
    for row in rows:
        done = bytearray()
        for at, value in enumerate(row[1:]):
            left = done[at - step] if at >= step else 0
            up = out[-1][at] if out else 0
            corner = out[-1][at - step] if out and at >= step else 0
            guess = left + up - corner
            paeth = min((abs(guess - left), 0, left), (abs(guess - up), 1, up),
                        (abs(guess - corner), 2, corner))[2]
            done.append((value + (0, left, up, (left + up) // 2, paeth)[row[0]]) & 255)
        out.append(bytes(done))
    return out


class RowsTest(unittest.TestCase):
    @examples(80)
    @given(st.integers(1, 12), st.integers(1, 9), st.sampled_from((1, 2, 3, 4)), st.randoms())
    def test_rows_as_the_plain_reading_has_them(self, count, pixels, step, rng):
        rows = [bytes([rng.randrange(5)]) + rng.randbytes(pixels * step) for _ in range(count)]
        truth = np.array([list(row) for row in plain_rows(rows, step)])
        values = np.array([list(row) for row in rows], np.int16)
        self.assertTrue((unfilter(values, step) == truth).all())
        lost = values.copy()
        lost[np.array([[rng.random() < 0.1 for _ in row] for row in rows])] = -1
        found = unfilter(lost, step)
        known = found >= 0
        self.assertTrue((found[known] == truth[known]).all())
        self.assertTrue((found[lost[:, 1:] < 0] < 0).all())


if __name__ == "__main__":
    unittest.main()
