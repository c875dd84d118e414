"""Clips by their index, where clusters of others fit by chance."""

from __future__ import annotations

import random
import threading
import unittest

import numpy as np

from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.base import Bench, Broken, joiner_for
from needlewright.core.stitching.hand import Hand
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.sample_index import ENOUGH
from needlewright.demo import clips

UNIT = 512
TINY_UNIT = b"\0\0\0\2\6\x80"  # a NAL unit of supplemental information, two bytes long


class ChanceTest(unittest.TestCase):
    """A clip in two pieces; a cluster between them could be the second one's first anchor."""

    @classmethod
    def setUpClass(cls):
        cls.clip = clips.encode("mp4", frames=60, size=(480, 270))
        cls.count = -(-len(cls.clip) // UNIT)

    def bench(self, data: bytes) -> Bench:
        pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        return Bench(pool, threading.Event(), 2, None)

    def hand(self, data: bytes) -> Hand:
        by_hand = joiner_for("mp4").by_hand
        hand = by_hand(Broken(1, "", "mp4", ((0, UNIT),)), self.bench(data))
        assert hand is not None
        return hand

    def laid(self) -> tuple[bytes, int, int]:
        """(the medium, the cluster of the cut, where the second piece lies)."""
        rng = random.Random(5)
        index = self.hand(self.clip + bytes(-len(self.clip) % UNIT)).clip.index
        cluster = self.count // 3
        while True:
            cluster = next(n for n in range(cluster + 1, self.count) if index.anchored(n))
            own = np.frombuffer(self.clip[cluster * UNIT : (cluster + 1) * UNIT], np.uint8)
            low, high = index.starting(cluster)
            videos = [i for i in range(low, high) if index.tracks[index.track[i]].coding == b"avc1"
                      and index.offsets[i] - cluster * UNIT < UNIT - 40]
            proof = index.check(cluster, own)
            if proof < ENOUGH and len(videos) == 1 and index.sizes[videos[0]] > 200:
                break
        cut = cluster
        like = bytearray(rng.randbytes(UNIT))
        at = int(index.offsets[videos[0]]) - cluster * UNIT
        rest = int(index.sizes[videos[0]]) - 3 * len(TINY_UNIT) - 4
        like[at : at + 24] = 3 * TINY_UNIT + rest.to_bytes(4, "big") + b"\6\x80"
        noise = rng.randbytes(6 * UNIT)
        first = self.clip[: cut * UNIT]
        data = first + noise + like + noise
        begin = len(data) // UNIT
        data += self.clip[cut * UNIT :] + bytes(-len(self.clip) % UNIT) + noise
        return data, cut, begin

    def test_by_hand_the_piece_that_more_speaks_for_comes_first(self):
        data, cut, begin = self.laid()
        hand = self.hand(data)
        self.assertEqual(len(hand.reach(range(cut)).shares), cut)
        best = hand.offers(tuple(range(cut))).best[0]
        self.assertEqual((best.first, best.count), (begin, hand.stop - cut))

    def test_what_stands_in_line_is_taken_before_what_fits_by_chance(self):
        data, cut, begin = self.laid()
        joined = joiner_for("mp4").join(Broken(1, "", "mp4", ((0, UNIT),)), self.bench(data))
        self.assertTrue(joined.ended)
        self.assertEqual(len(joined.seams), 1)
        self.assertEqual(joined.extents[-1][0] + joined.extents[-1][1],
                         begin * UNIT + len(self.clip) - cut * UNIT)


if __name__ == "__main__":
    unittest.main()
