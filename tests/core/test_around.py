"""Pictures row by row, and files that go on behind what others own."""

from __future__ import annotations

import io
import random
import struct
import tempfile
import threading
import unittest
import zlib
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.codes import SeamWord
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.base import Bench, Broken, Joined, joiner_for
from needlewright.core.stitching.pictures.png_line import PngLine
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.trial_decodes import TrialDecodes
from needlewright.demo import clips
from tests.core.test_stitching import UNIT, cut, laid, photo
from tests.examples import examples
from tests.media import documents, heic_grids
from tests.media.pictures import saved


def in_one_chunk(seed: int, size: tuple[int, int] = (420, 300)) -> bytes:
    """A PNG with all of its picture in one chunk: nothing but its rows tells before the end."""
    picture = Image.open(io.BytesIO(photo(seed, size))).convert("RGB")
    rows = np.asarray(picture, np.uint8).reshape(size[1], -1).astype(np.int16)
    before = np.vstack((np.zeros_like(rows[:1]), rows[:-1]))
    filtered = (rows - before).astype(np.uint8)
    kinds = np.full((size[1], 1), 2, np.uint8)

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(
            ">I", zlib.crc32(name + body))

    return b"\x89PNG\r\n\x1a\n" + chunk(
        b"IHDR", struct.pack(">IIBBBBB", *size, 8, 2, 0, 0, 0)) + chunk(
        b"IDAT", zlib.compress(np.hstack((kinds, filtered)).tobytes())) + chunk(b"IEND", b"")


def raw(data: bytes, unit: int = UNIT) -> np.ndarray:
    return np.frombuffer(data.ljust(unit, b"\0"), np.uint8)


def cut_all(data: bytes) -> list[bytes]:
    return [data[at : at + UNIT] for at in range(0, len(data), UNIT)]


class RowsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mine = in_one_chunk(3)
        cls.row = 1 + 3 * 420

    def test_what_it_draws_is_a_picture(self):
        Image.open(io.BytesIO(self.mine)).load()

    def test_pieces_of_one_cluster_within_one_chunk(self):
        pieces = cut(self.mine, 9, 10, 23, 24, 26)
        order = [0, 3, 5, 1, 4, 2]
        data = laid(*(p for i in order for p in (pieces[i], photo(20 + i, (200, 150)))))
        pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        joined = joiner_for("png").join(Broken(1, "", "png", ((0, UNIT),)),
                                        Bench(pool, threading.Event(), 2))
        self.assertEqual(b"".join(data[o : o + n] for o, n in joined.extents), self.mine)
        self.assertEqual({s.word for s in joined.seams}, {SeamWord.PROVEN})
        self.assertEqual(len(joined.seams), 5)

    def test_taken_in_any_steps_it_ends_where_the_file_does(self):
        plain = saved(Image.new("L", (900, 700), 9), "PNG")
        for data, row, rows in ((self.mine, self.row, 300), (plain, 901, 700)):
            line, rng, at, end = PngLine(row, rows), random.Random(2), 0, None
            state = line.begin()
            while end is None:
                step = rng.choice((512, 1024, UNIT))
                done = line.take(state, raw(data[at : at + step], step))
                self.assertFalse(done.refused, at)
                self.assertGreaterEqual(line.progress(done.state), line.progress(state))
                state, end, at = done.state, done.end, at + step
            self.assertEqual(at - step + end, len(data))

    def test_its_own_cluster_ranks_before_foreign_ones(self):
        line = PngLine(self.row, 300)
        state = line.take(line.begin(), raw(self.mine[:UNIT])).state
        foreign = [photo(5)[UNIT * i : UNIT * (i + 1)] for i in range(3, 9)]
        foreign += [in_one_chunk(8)[UNIT * i : UNIT * (i + 1)] for i in range(2, 6)]
        rows = np.array([raw(b"\0" + d, UNIT + 1) for d in (self.mine[UNIT : 2 * UNIT], *foreign)])
        scores, _ = line.rank(state, rows)
        self.assertEqual(int(np.argmax(scores)), 0)
        self.assertLessEqual(int((scores[1:] > scores[0] / 2).sum()), 1)

    @examples(80)
    @given(st.binary(max_size=600), st.integers(0, 3))
    def test_any_bytes_are_refused_or_taken(self, data, clusters):
        line = PngLine(self.row, 300)
        state = line.begin()
        for at in range(clusters):
            state = line.take(state, raw(self.mine[at * UNIT : (at + 1) * UNIT])).state
        made = state.inflater.made
        done = line.take(state, raw(data, 600))
        self.assertEqual(state.inflater.made, made)  # a state is never changed
        self.assertTrue(done.refused or done.end is None or 0 < done.end <= 600)




class AroundTest(unittest.TestCase):
    """Files that a driver wrote into what was free between others."""

    @classmethod
    def setUpClass(cls):
        prose = "".join(random.Random(1).choices("otter weir mist holt", k=60_000))
        cls.files = {
            "docx": documents.archive({"[Content_Types].xml": "<Types/>", "word/a.xml": prose,
                                       "word/document.xml": prose[::-1]}),
            "sqlite": documents.database(2500),
            "wav": clips.record("wav", "pcm_s16le", 3, 2.0),
            "wmv": clips.encode("asf", "wmv2", "wmav2", frames=40),
            "heic": heic_grids.grid(Image.open(io.BytesIO(photo(6, (640, 400)))), 128),
        }

    def joined(self, form: str, order: str) -> tuple[Joined | None, bytes]:
        """The find at the medium's beginning: letters are pieces, dots what others own, commas
        free clusters of noise."""
        mine = self.files[form]
        count = -(-len(mine) // UNIT)
        a, b, c = cut(mine, count // 3, 2 * count // 3)
        data, owned = bytearray(), []
        for letter in order:
            piece = {"a": a, "b": b, "c": c}.get(letter) or random.Random(7).randbytes(3 * UNIT)
            if letter == ".":
                owned.append((len(data), len(data) + len(piece)))
            data += laid(piece)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "card.img"
            path.write_bytes(data)
            with ImageFile(path) as source:
                pool = Pool(source, UNIT, 0, np.array(owned or np.zeros((0, 2)), np.int64))
                list(pool.look())
                decodes = TrialDecodes(source, threading.Event())
                self.addCleanup(decodes.close)
                got = joiner_for(form).join(Broken(1, "", form, ((0, UNIT),)),
                                            Bench(pool, threading.Event(), 2, decodes))
        out = b"" if got is None else b"".join(bytes(data[o : o + n]) for o, n in got.extents)
        return got, out

    def test_they_come_back_and_are_called_what_their_formats_can_prove(self):
        for form, word in (("docx", SeamWord.PROVEN), ("sqlite", SeamWord.PROVEN),
                           ("wmv", SeamWord.PROVEN), ("wav", SeamWord.LIKELY)):
            joined, data = self.joined(form, "a.b..c.,")
            self.assertEqual(data, self.files[form], form)
            self.assertEqual([s.word for s in joined.seams], [word] * 2, form)

    def test_a_stretch_that_is_not_theirs_is_passed_over(self):
        for form in ("docx", "sqlite"):
            joined, data = self.joined(form, "a.,.b.c.")
            self.assertEqual(data, self.files[form], form)
            self.assertEqual(len(joined.seams), 2)

    def test_without_a_piece_nothing_is_whole(self):
        for form in ("docx", "sqlite", "wmv", "heic"):
            joined, _ = self.joined(form, "a.c.,")
            self.assertTrue(joined is None or not joined.ended or any(
                s.word is SeamWord.LIKELY for s in joined.seams), form)

    def test_what_is_in_one_piece_is_left_alone(self):
        for form in self.files:
            joined, _ = self.joined(form, "abc.,")
            self.assertIsNone(joined, form)

    def test_tiles_stand_where_the_index_says(self):
        for order in ("a,b.,c", "a,c,b,"):
            joined, data = self.joined("heic", order)
            self.assertTrue(joined.ended)
            self.assertEqual(len(joined.seams), 2)
            off = sum(a != b for a, b in zip(cut_all(data), cut_all(self.files["heic"])))
            self.assertEqual(len(data), len(self.files["heic"]))
            # Its decoders notice little, so a cluster without a tile's beginning stays in doubt.
            doubts = [s for s in joined.seams if s.word is SeamWord.LIKELY]
            self.assertLessEqual(off, len(doubts), order)


if __name__ == "__main__":
    unittest.main()
