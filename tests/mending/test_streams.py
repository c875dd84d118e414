"""Files that are a row of units: AVI, Matroska, transport streams, and frames of sound. What stays
is the original's, by FFmpeg's decoders; what is left out is told."""

from __future__ import annotations

import io
import random
import struct
import unittest
from functools import cache

import av
import numpy as np
from benchmarks.mending import STREAMS, frames_of
from benchmarks.mending_damage import STREAM, stream
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.kernels.mp3_main_data import first_overlap, fresh
from needlewright.core.mending.mend_mp3 import silenced
from needlewright.core.mending.streams.keys import is_between, is_key, is_overwritten
from needlewright.core.mending.streams.pieces import Pieces, left_out, writing
from needlewright.core.sources.memory import MemorySource
from needlewright.demo import clips
from tests.examples import examples
from tests.mending import damage
from tests.support import FolderTest, noise

LOST_HEAD = {"opus", "aiff"}  # which no sibling can lend


@cache
def whole(name: str, seed: int = 70, frames: int = 75) -> bytes:
    container, video, audio, _ = STREAMS[name]
    if video is None:
        return clips.record(container, audio, seed, frames / clips.FPS)
    return clips.encode(container, video, audio, seed, frames, (320, 240))


def samples(data: bytes) -> np.ndarray:
    with av.open(io.BytesIO(data)) as file:
        return np.concatenate([frame.to_ndarray()[0] for frame in file.decode(audio=0)])


class StreamsTest(FolderTest):
    def mend(self, name: str, kind: str, data: bytes):
        return damage.mended(self.folder, f"{name} {kind}.{STREAMS[name][3]}", data,
                             whole(name, 99, 30))

    def test_clips_keep_what_is_the_original_s_in_step(self):
        for name in ("avi mpeg4 mp3", "avi mjpeg pcm", "mkv avc aac", "ts avc aac", "ts mpeg2 mp2",
                     "flv avc aac", "mpg mpeg2 mp2", "mpg mpeg1 mp2", "wmv wmv2 wma"):
            sums, times, _, _, _ = frames_of(whole(name))
            where = dict(zip(sums, times))
            for kind in STREAM if name not in ("mpg mpeg1 mp2", "wmv wmv2 wma") else STREAM[::2]:
                with self.subTest(name, kind=kind):
                    data, _ = stream(whole(name), kind, random.Random(f"{name} {kind}"))
                    done = self.mend(name, kind, data)
                    if done.output is None:  # nothing that its decoders notice, or no better
                        self.assertIn(done.why, ("whole", "no-better", "nothing-found"))
                        continue
                    found, at, _, _, fine = frames_of(done.output.read_bytes())
                    self.assertTrue(fine and found)
                    if done.grade == "mended":
                        self.assertLessEqual(set(found), set(sums))
                    off = [abs(t - where[s]) for s, t in zip(found, at) if s in where]
                    # An AVI has no times: what is lost of both streams is not there.
                    lost = 0.8 if name.startswith("avi") else 0.05
                    if name.startswith("mpg"):  # one picture at either side may have no time
                        off = sorted(off)[:-2]
                    self.assertLess(max(off, default=0.0), lost)
                    if kind == "cut off" and name.startswith("mkv"):
                        self.assertLess(done.share, 0.8)

    def test_an_avi_without_its_index(self):
        data = whole("avi mjpeg pcm")
        done = self.mend("avi mjpeg pcm", "bare", data[: data.rfind(b"idx1")])
        # Motion JPEG and plain sound have no checksums.
        self.assertEqual((done.grade, done.share), ("unproven", 1.0))
        made = done.output.read_bytes()
        self.assertEqual(frames_of(made)[:2], frames_of(data)[:2])
        self.assertIn(b"idx1", made)

    def test_dark_plain_pictures_and_filled_up_ones_are_no_damage(self):
        """Zeros are pictures where nothing codes them, and filling where sizes are rounded up;
        inside a coded picture they are neither."""
        plain = clips.encode("avi", "rawvideo", None, 70, 6, (64, 48))
        movi = plain.find(b"movi")
        size = int.from_bytes(plain[movi + 8 : movi + 12], "little")
        dark = plain[: movi + 12] + bytes(size) + plain[movi + 12 + size : plain.rfind(b"idx1")]
        done = damage.mended(self.folder, "dark.avi", dark)
        self.assertEqual((done.share, [c.code for c in done.changes]), (1.0, ["index-made"]))
        jpeg = whole("avi mjpeg pcm")
        picture = jpeg[jpeg.find(b"\xff\xd8") :][:9000]
        self.assertFalse(is_overwritten(b"MJPG", picture + bytes(4096)))
        self.assertTrue(is_overwritten(b"mjpg", picture[:4000] + bytes(600) + picture[4600:]))
        self.assertFalse(is_overwritten(b"DIB ", picture[:4000] + bytes(600) + picture[4600:]))

    def test_plain_pictures_in_matroska(self):
        """Of codings that are not known nothing is left out for its zeros."""
        plain = bytearray(clips.encode("matroska", "ffv1", None, 70, 6, (64, 48)))
        place = plain.find(b"V_FFV1")
        plain[place : place + 6] = b"V_XFV1"
        done = damage.mended(self.folder, "plain.mkv", bytes(plain[:-200]))
        self.assertNotIn("samples-dropped", [c.code for c in done.changes])

    def test_sound_is_picked_up_again(self):
        for name in ("mp3", "aac", "flac", "opus"):
            truth = samples(whole(name))
            for kind in ("zeroed", "inserted", "removed", "head lost"):
                with self.subTest(name, kind=kind):
                    data, there = stream(whole(name), kind, random.Random(f"{name} {kind}"))
                    done = self.mend(name, kind, data)
                    if kind == "head lost" and name in LOST_HEAD:
                        self.assertIsNone(done.output)
                        continue
                    self.assertIsNotNone(done.output, done.why)
                    found = samples(done.output.read_bytes())
                    self.assertGreater(len(found), len(truth) * (there - 0.4))
                    self.assertLessEqual(len(found), len(truth) + 2048)
                    if name == "flac":  # every frame is its own: to the sample
                        same = int((found != truth[: len(found)]).argmax())
                        back = int((found[::-1] != truth[::-1][: len(found)]).argmax())
                        self.assertTrue(same + back >= len(found) or (found == truth[
                            : len(found)]).all() or (found == truth[-len(found):]).all())

    def test_linear_sound_is_never_called_mended_when_some_is_missing(self):
        for name in ("aiff", "wav"):
            data = whole(name)
            for kind, hurt in (("cut", data[: len(data) // 2]),
                               ("hole", data[:9000] + data[12_000:])):
                done = self.mend(name, kind, hurt)
                self.assertEqual(done.grade, "partial")
                self.assertLess(done.share, 1.0)
            unsized = data[:4] + bytes(4) + data[8:]
            self.assertIn(self.mend(name, "sizes", unsized).grade, ("mended", "unproven", "whole"))

    def test_what_is_no_such_file_is_told(self):
        for name in STREAMS:
            for kind, data in (("noise", noise(60_000)), ("short", whole(name)[:40]),
                               ("zeros", bytes(50_000))):
                with self.subTest(name, kind=kind):
                    self.assertIsNone(self.mend(name, kind, data).output)


class PartsTest(unittest.TestCase):
    def test_silenced_frames_keep_the_books_in_order(self):
        data = whole("mp3")
        first = data.find(b"\xff\xfb")
        self.assertGreaterEqual(first, 0)
        frames = list(_frames(data[first:]))[1:40]
        out = b"".join(silenced(f, 0 if i == 0 else 2048) if i < 3 else f
                       for i, f in enumerate(frames))
        again = np.frombuffer(out, np.uint8)
        self.assertEqual([len(f) for f in frames], [len(f) for f in _frames(out)])
        self.assertGreaterEqual(first_overlap(again, fresh())[0], 0)

    def test_kinds_of_pictures(self):
        vop = b"\0\0\1\xb6"
        self.assertTrue(is_key(b"XVID", vop + b"\x10"))
        self.assertFalse(is_key(b"xvid", vop + b"\x50"))
        self.assertTrue(is_between(b"MP4V", vop + b"\x90"))
        picture = b"\0\0\1\0" + struct.pack(">H", 1 << 3)
        self.assertTrue(is_key(b"MPG2", picture))
        self.assertTrue(is_between(b"MPG2", b"\0\0\1\0" + struct.pack(">H", 3 << 3)))
        self.assertTrue(is_key(b"H264", b"\0\0\1\x65"))
        self.assertFalse(is_key(b"H264", b"\0\0\1\x41"))
        self.assertTrue(is_key(b"HEVC", b"\0\0\1\x26"))
        self.assertIsNone(is_key(b"WMV3", b"\0\0\1"))


class HostileTest(FolderTest):
    @examples(25)
    @given(st.sampled_from(sorted(STREAMS)), st.integers(0, 1 << 30))
    def test_nothing_but_our_own_errors(self, name, seed):
        rng = random.Random(seed)
        data = bytearray(whole(name, frames=12))
        for _ in range(rng.randrange(1, 9)):
            at = rng.randrange(len(data))
            data[at : at + rng.choice((1, 4, 8))] = rng.randbytes(rng.choice((0, 1, 4, 8)))
        done = damage.mended(self.folder, f"{seed}.{STREAMS[name][3]}", bytes(data))
        self.assertTrue(done.output is not None or done.why, name)


def _frames(data: bytes):
    from needlewright.core.kernels.sound_frames import MPEG, frame_bytes

    at = 0
    while at + 8 < len(data) and (size := frame_bytes(data[at : at + 8], MPEG)):
        if at + size > len(data):
            return
        yield data[at : at + size]
        at += size


class SplitPacketsTest(FolderTest):
    """Transport streams into which whole sectors were put, as where a file in pieces was taken to
    be in one."""

    def stamped(self, data: bytes) -> bytes:
        """The same stream as camcorders write it: a time stamp before each packet."""
        return b"".join(struct.pack(">I", i * 100) + data[i : i + 188]
                        for i in range(0, len(data) - 187, 188))

    def test_every_packet_is_there_again(self):
        plain = whole("ts avc aac")
        for name, data in (("plain.ts", plain), ("stamped.m2ts", self.stamped(plain))):
            step = 188 if name.endswith(".ts") else 192
            at = next(s for s in range(40_448, len(data), 512) if 8 < s % step < step - 8)
            for seed in range(2):
                with self.subTest(name, seed=seed):
                    hurt = data[:at] + noise(4096, seed) + data[at:]
                    done = damage.mended(self.folder, f"{seed} {name}", hurt)
                    self.assertEqual(done.output.suffix, name[name.rindex("."):])
                    made = done.output.read_bytes()
                    self.assertEqual(len(made) % step, 0)
                    # No packet is lost; those of tables and sound stay as they were.
                    self.assertEqual(made, data[: len(data) // step * step])

    def test_what_is_told_of_gaps_near_each_other(self):
        (told,) = left_out(3, [(4.0, 4.1), (1.0, 2.0), (2.2, 2.4)])
        self.assertEqual(told.values["seconds"], [[1.0, 2.4], [4.0, 4.1]])
        self.assertEqual(left_out(0, []), [])

    def test_pieces_that_touch_are_one(self):
        pieces = Pieces()
        for piece in ((0, 5), (5, 9), b"ab", b"c", (2, 4)):
            pieces.add(piece)
        self.assertEqual((pieces.pieces, pieces.size), ([(0, 9), b"abc", (2, 4)], 14))
        out = io.BytesIO()
        writing(MemorySource(bytes(range(9))), pieces.pieces)(out)
        self.assertEqual(out.getvalue(), bytes(range(9)) + b"abc" + bytes((2, 3)))
