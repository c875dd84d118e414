"""Clips by their index, where clusters of others fit by chance."""

from __future__ import annotations

import random
import threading
import unittest
from itertools import pairwise

import numpy as np

from needlewright.core.codes import SeamWord
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.base import Bench, Broken, joiner_for
from needlewright.core.stitching.clips.sample_index import ENOUGH
from needlewright.core.stitching.hand import Hand
from needlewright.core.stitching.pool import Pool
from needlewright.demo import clips

UNIT = 512
TINY_UNIT = b"\0\0\0\2\6\x80"  # a NAL unit of supplemental information, two bytes long


class ChanceTest(unittest.TestCase):
    """A clip in two pieces; a cluster between them could be the second one's first anchor."""

    @classmethod
    def setUpClass(cls):
        cls.clip = clips.encode("mp4", frames=60, size=(480, 270), coder={"preset": "medium"})
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


    def test_pieces_in_front_of_the_index_at_the_end_of_the_medium(self):
        clip = clips.encode("mp4", frames=60, size=(480, 270), options={"movflags": "faststart"})
        noise = random.Random(9).randbytes(3 * UNIT)
        for first in (len(clip) // 3, 2 * UNIT):  # the index in one piece, and in two
            first = first // UNIT * UNIT
            a, b, c = clip[:first], clip[first : first + 90 * UNIT], clip[first + 90 * UNIT :]
            data = noise + c + bytes(-len(c) % UNIT) + noise + b + noise + a
            pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
            list(pool.look())
            start = data.find(a)
            joined = joiner_for("mp4").join(Broken(1, "", "mp4", ((start, UNIT),)), Bench(
                pool, threading.Event(), 2, lambda *_: True))
            self.assertTrue(joined.ended)
            self.assertEqual(joined.extents[0][0], start)
            self.assertLess(abs(joined.extents[1][0] - data.find(b)), 16 * UNIT)
            self.assertEqual(sum(n for _, n in joined.extents), len(clip))

    def within_a_frame(self) -> int:
        """A cluster of the clip in which, and around which, no sample begins."""
        index = self.hand(self.clip + bytes(-len(self.clip) % UNIT)).clip.index
        return next(n for n in range(40, self.count) if not any(
            index.anchored(m) for m in range(n - 2, n + 4)))

    def test_a_piece_that_lies_within_one_frame(self):
        cut = self.within_a_frame()
        noise = random.Random(6).randbytes(4 * UNIT)
        first, rest = self.clip[: cut * UNIT], self.clip[(cut + 2) * UNIT :]
        middle = self.clip[cut * UNIT : (cut + 2) * UNIT]
        data = first + noise + rest + bytes(-len(rest) % UNIT) + noise + middle + noise
        stray = [(len(first), len(first) + len(noise)),
                 (len(data) - len(noise), len(data))]
        pool = Pool(MemorySource(data), UNIT, 0, np.array(stray, np.int64))
        list(pool.look())

        def strict(extents, start, stop, decoder="CLIP"):
            got = b"".join(data[o : o + n] if o is not None else bytes(n) for o, n in extents)
            return got == self.clip

        for effort, ended in ((0, False), (2, True)):
            joined = joiner_for("mp4").join(Broken(1, "", "mp4", ((0, UNIT),)), Bench(
                pool, threading.Event(), effort, strict))
            self.assertEqual(joined is not None and strict(joined.extents, 0, 0), ended)
        self.assertEqual([s.word for s in joined.seams], [SeamWord.PROVEN] * 2)

    def test_a_decoder_that_notices_nothing_proves_nothing(self):
        cut = self.within_a_frame()
        first, noise = self.clip[: cut * UNIT], random.Random(6).randbytes(4 * UNIT)
        data = first + noise + self.clip[cut * UNIT :] + bytes(-len(self.clip) % UNIT) + noise
        owned = np.array([(len(first), len(first) + len(noise))], np.int64)
        pool = Pool(MemorySource(data), UNIT, 0, owned)
        list(pool.look())

        def strict(extents, start, stop, decoder="CLIP"):
            got = b"".join(data[o : o + n] if o is not None else bytes(n) for o, n in extents)
            return got == self.clip

        for decodes, word in ((strict, SeamWord.PROVEN), (lambda *_: True, SeamWord.LIKELY)):
            joined = joiner_for("mp4").join(Broken(1, "", "mp4", ((0, UNIT),)), Bench(
                pool, threading.Event(), 2, decodes))
            self.assertEqual([s.word for s in joined.seams], [word])
            self.assertTrue(strict(joined.extents, 0, 0))


class ChunksTest(unittest.TestCase):
    """AVI: the index behind the frames says how each chunk begins."""

    UNIT = 4096

    @classmethod
    def setUpClass(cls):
        cls.clip = clips.encode("avi", "mjpeg", "pcm_s16le", frames=40, size=(320, 240))
        cls.other = clips.encode("avi", "mjpeg", "pcm_s16le", seed=9, frames=40, size=(320, 240))

    def pool(self, *pieces: bytes) -> tuple[Pool, bytes]:
        data = b"".join(p + random.Random(3).randbytes(-len(p) % self.UNIT) for p in pieces)
        pool = Pool(MemorySource(data), self.UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        return pool, data

    def pieces(self, clip: bytes, *cuts: int) -> list[bytes]:
        edges = [0, *(c * self.UNIT for c in cuts), len(clip)]
        return [clip[a:b] for a, b in pairwise(edges)]

    def test_two_clips_of_one_camera_in_each_other(self):
        mine = self.pieces(self.clip, 9, 21, 30)
        theirs = self.pieces(self.other, 12, 25)
        pool, data = self.pool(mine[0], theirs[0], mine[2], theirs[1], mine[1], theirs[2], mine[3])
        bench = Bench(pool, threading.Event(), 2, lambda *_: False)  # our own walk of frames tells
        for clip in (self.clip, self.other):
            start = data.find(clip[: self.UNIT])
            joined = joiner_for("avi").join(Broken(1, "", "avi", ((start, self.UNIT),)), bench)
            self.assertTrue(joined.ended)
            got = b"".join(data[o : o + n] for o, n in joined.extents)
            doubts = sum(s.word is SeamWord.LIKELY for s in joined.seams)
            if not doubts:
                self.assertEqual(got, clip)
            wrong = sum(a != b for a, b in zip(self.clusters(got), self.clusters(clip)))
            self.assertLessEqual(wrong, 5 * doubts)

    def clusters(self, data: bytes) -> list[bytes]:
        return [data[at : at + self.UNIT] for at in range(0, len(data), self.UNIT)]

    def test_another_clips_index_is_not_taken(self):
        a, b = self.pieces(self.clip, 15)
        _, theirs = self.pieces(self.other, len(self.other) // self.UNIT - 4)
        pool, _ = self.pool(a, theirs, b[: 8 * self.UNIT])
        joined = joiner_for("avi").join(Broken(1, "", "avi", ((0, self.UNIT),)),
                                        Bench(pool, threading.Event(), 2, lambda *_: True))
        self.assertTrue(joined is None or not joined.ended)

    def test_an_index_that_lies_costs_nothing(self):
        """Places beyond the medium, sizes of four gibibytes, none at all."""
        at = self.clip.rindex(b"idx1")
        for spoilt in (b"\xff" * 600, b"\0" * 600, b"00dc" * 150):
            clip = self.clip[: at + 8] + spoilt + self.clip[at + 608 :]
            a, b = self.pieces(clip, 15)
            pool, _ = self.pool(a, self.other[: 3 * self.UNIT], b)
            joined = joiner_for("avi").join(Broken(1, "", "avi", ((0, self.UNIT),)),
                                            Bench(pool, threading.Event(), 2, lambda *_: True))
            self.assertTrue(joined is None or joined.extents[0] == (0, 15 * self.UNIT))


if __name__ == "__main__":
    unittest.main()
