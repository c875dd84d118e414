"""The isolated decoders: limits hold, and one bad file never costs another."""

import io
import os
import signal
import struct
import unittest
import zlib

import av
from PIL import Image, ImageChops, ImageStat

from needlewright.core.checks import worker_clips
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.sources.memory import MemorySource
from tests.core.test_png import chunk
from tests.media import clips
from tests.support import camera_jpeg, jpeg, png, scene

PHOTO = camera_jpeg(1)


def request(data: bytes, name: str = "JPEG", preview: tuple[int, int] | None = None):
    return DecodeRequest(MemorySource(data), [(0, len(data))], name, 1_000_000, preview)


class StripTest(unittest.TestCase):
    """The frames of a clip's strip, against decoding all of it."""

    def strip(self, data):
        answer, (first, strip) = worker_clips.look(
            io.BytesIO(data), {"side": 360, "turn": 1}, lambda: None)
        self.assertTrue(answer["ok"], answer)
        self.assertTrue(first)
        return Image.open(io.BytesIO(strip)).convert("RGB")

    def test_each_is_the_key_frame_before_its_moment(self):
        for container, coding, apart in (("mp4", "libx264", "20"), ("matroska", "libvpx-vp9", "30"),
                                         ("avi", "mpeg4", "12")):
            with self.subTest(coding):
                data = clips.encode(container, coding, None, seed=44, frames=120,
                                    coder={"g": apart})
                with av.open(io.BytesIO(data)) as whole:
                    stream = whole.streams.video[0]
                    begins = (whole.start_time or 0) / 1_000_000
                    length = worker_clips._duration(whole, stream)
                    keys = [(f.time, f.to_image()) for f in whole.decode(stream) if f.key_frame]
                shown = self.strip(data)
                self.assertEqual(shown.height, worker_clips.STRIP_HEIGHT)
                wide = shown.width // 10
                for cell in range(10):
                    moment = begins + length * cell / 10 + 0.001
                    near = [image for at, image in keys if at <= moment][-1]
                    box = shown.crop((wide * cell, 0, wide * cell + wide, shown.height))
                    off = ImageChops.difference(box, near.convert("RGB").resize(box.size))
                    self.assertLess(sum(ImageStat.Stat(off).mean) / 3, 12, cell)

    def test_a_damaged_key_frame_is_passed_over(self):
        data = bytearray(clips.encode("mp4", "libx264", None, seed=44, frames=120))
        at = data.index(b"mdat") + 4
        data[at + 40 : at + 3000] = bytes(2960)
        self.assertGreater(self.strip(bytes(data)).width, 0)


class PoolTest(unittest.TestCase):
    def pool(self, **options: object) -> DecoderPool:
        pool = DecoderPool(**options)
        self.addCleanup(pool.close)
        return pool

    def collect(self, pool: DecoderPool) -> dict:
        found = {}
        while pool.pending:
            found.update(pool.results(1.0))
        return found

    def test_decodes_and_compares_with_the_preview(self):
        pool = self.pool(workers=2)
        start = PHOTO.index(b"\xff\xd8", 10)
        stop = PHOTO.index(b"\xff\xd9") + 2
        for key in range(5):
            pool.submit(key, request(PHOTO, preview=(start, stop)))
        pool.submit("png", request(png(), "PNG"))
        found = self.collect(pool)
        self.assertEqual(len(found), 6)
        self.assertTrue(all(r.ok and r.thumbnail for r in found.values()))
        self.assertEqual((found[0].width, found[0].height), (1024, 768))
        self.assertGreater(found[0].correlation, 0.95)
        self.assertLess(max(found[0].rows), 14)

    def test_a_killed_worker_costs_one_picture(self):
        pool = self.pool(workers=1)
        for key in range(4):
            pool.submit(key, request(jpeg(scene(1, 2000, 1500))))
        os.kill(pool.processes()[0], signal.SIGKILL)
        found = self.collect(pool)
        self.assertEqual(sorted(r.error or "" for r in found.values()), ["", "", "", "crash"])

    def test_time_limit(self):
        pool = self.pool(workers=1, time_limit_s=0.0)
        pool.submit(1, request(jpeg(scene(1, 2000, 1500))))
        self.assertEqual(self.collect(pool)[1].error, "time")

    def test_bombs_and_nonsense_are_failed_checks(self):
        header = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
        wide = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(
            b"IDAT", zlib.compress(bytes(1000))) + chunk(b"IEND", b"")
        at = PHOTO.rindex(b"\xff\xc0")
        huge = PHOTO[: at + 5] + b"\xff\xff\xff\xff" + PHOTO[at + 9 :]
        text = png(scene(2, 40, 30))
        text_bomb = text[:33] + chunk(b"zTXt", b"k\0\0" + zlib.compress(bytes(60_000_000))) + (
            text[33:])
        pool = self.pool(workers=2)
        for key, (data, name) in enumerate((
                (wide, "PNG"), (huge, "JPEG"), (b"nonsense", "JPEG"), (b"", "PNG"),
                (text_bomb, "PNG"), (PHOTO[:5000], "JPEG"))):
            pool.submit(key, request(data, name))
        found = self.collect(pool)
        self.assertEqual([found[k].ok for k in range(6)], [False] * 6)
        self.assertEqual(found[0].error, "too-large")
        self.assertNotIn("crash", {r.error for r in found.values()})
        pool.submit("after", request(PHOTO))
        self.assertTrue(self.collect(pool)["after"].ok)
