"""The isolated decoders: limits hold, and one bad file never costs another."""

import errno
import io
import os
import signal
import struct
import subprocess
import tempfile
import unittest
import zlib
from dataclasses import replace
from unittest import mock

import av
from hypothesis import example, given
from hypothesis import strategies as st
from PIL import Image, ImageChops, ImageStat

from needlewright.core.checks import decode_worker, decoding, worker_clips, worker_pictures
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.checks.grading import judge
from needlewright.core.errors import SourceError
from needlewright.core.formats.registry import formats
from needlewright.core.sources.memory import MemorySource
from needlewright.core.walks import Outcome
from tests.core.test_png import chunk
from tests.media import clips
from tests.support import camera_jpeg, jpeg, png, scene

PHOTO = camera_jpeg(1)


def request(data: bytes, name: str = "JPEG", preview: tuple[int, int] | None = None):
    return DecodeRequest(MemorySource(data), [(0, len(data))], name, 1_000_000, preview)


class StripTest(unittest.TestCase):
    """The frames of a clip's strip, against decoding all of it."""

    def strip(self, data, task=worker_clips.look, ok=True):
        answer, (first, strip) = task(io.BytesIO(data), {
            "side": 360, "turn": 1, "strip": True, "format": "CLIP"}, lambda: None)
        self.assertEqual(answer["ok"], ok, answer)
        self.assertEqual(bool(first), task is worker_clips.look)
        return Image.open(io.BytesIO(strip)).convert("RGB")

    def cells(self, shown):
        self.assertEqual(shown.height, worker_clips.STRIP_HEIGHT)
        wide = shown.width // 10
        return [shown.crop((wide * i, 0, wide * i + wide, shown.height)) for i in range(10)]

    def apart(self, box, frame):
        off = ImageChops.difference(box, frame.convert("RGB").resize(box.size))
        return sum(ImageStat.Stat(off).mean) / 3

    def test_out_of_the_pass_over_all_frames(self):
        """The last key frame since the moment before, else the frame of the moment."""
        for container, coding, apart in (("mp4", "libx264", "20"), ("avi", "mpeg4", "30"),
                                         ("mp4", "libx264", "250"), ("mpegts", "mpeg2video", "9")):
            with self.subTest(coding, apart=apart):
                data = clips.encode(container, coding, None, seed=44, frames=120,
                                    coder={"g": apart})
                with av.open(io.BytesIO(data)) as whole:
                    stream = whole.streams.video[0]
                    begins = (whole.start_time or 0) / 1_000_000
                    length = worker_clips._duration(whole, stream)
                    frames = [(f.time, f.key_frame, f.to_image()) for f in whole.decode(stream)]
                before = -1.0
                for index, box in enumerate(self.cells(self.strip(data, worker_clips.every_frame))):
                    moment = begins + length * index / 10 + 0.001
                    since = [f for f in frames if before < f[0] <= moment] or frames[:1]
                    chosen = ([f for f in since if f[1]] or since)[-1]
                    self.assertLess(self.apart(box, chosen[2]), 12, index)
                    before = moment

    def test_what_does_not_decode_is_blank_in_it(self):
        data = bytearray(clips.encode("mp4", "libx264", None, seed=44, frames=120,
                                      coder={"g": "10"}))
        first, size = data.index(b"mdat") + 4, len(data)
        middle, late = first + (size - first) * 45 // 100, first + (size - first) * 8 // 10
        data[middle:late] = bytes(late - middle)
        cells = self.cells(self.strip(bytes(data), worker_clips.every_frame, ok=False))
        blank = Image.new("RGB", cells[0].size, (38, 42, 44))
        empty = [self.apart(box, blank) < 2 for box in cells]
        self.assertEqual((empty[:4], any(empty), empty[9]), ([False] * 4, True, False))

    def test_one_picture_at_once_where_no_strip_is_wanted(self):
        data = clips.encode("mp4", "libx264", None, seed=44, frames=50)
        answer, (first, strip) = worker_clips.look(
            io.BytesIO(data), {"side": 360, "turn": 1, "strip": False}, lambda: None)
        self.assertEqual((answer["ok"], bool(first), strip), (True, True, b""))

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
                for index, box in enumerate(self.cells(self.strip(data))):
                    moment = begins + length * index / 10 + 0.001
                    near = [image for at, image in keys if at <= moment][-1]
                    self.assertLess(self.apart(box, near), 12, index)

    def test_sizes_are_told_by_the_first_picture(self):
        for container, coding in (("mp4", "mpeg4"), ("flv", "flv1"), ("mpegts", "libx264")):
            data = clips.encode(container, coding, None, seed=44, frames=12)
            answer, _ = worker_clips.look(
                io.BytesIO(data), {"side": 360, "turn": 1, "strip": False}, lambda: None)
            self.assertEqual((answer["width"], answer["height"]), (320, 240), coding)

    def test_a_damaged_key_frame_is_passed_over(self):
        data = bytearray(clips.encode("mp4", "libx264", None, seed=44, frames=120))
        at = data.index(b"mdat") + 4
        data[at + 40 : at + 3000] = bytes(2960)
        self.assertGreater(self.strip(bytes(data)).width, 0)


class WitnessTest(unittest.TestCase):
    """The picture against its own thumbnail."""

    @given(st.integers(1, 12_000), st.integers(1, 12_000), st.integers(1, 400),
           st.integers(1, 400))
    @example(750, 500, 160, 120)  # 24 megapixels, as most cameras take them
    def test_boxes_stay_inside(self, width, height, wide, high):
        picture, small = (mock.Mock(width=w, height=h, size=(w, h)) for w, h in (
            (width, height), (wide, high)))
        boxes = [(small, worker_pictures._letterbox(small, width, height))]
        crop = worker_pictures._crop(picture, wide, high)
        for of, (left, top, right, below) in boxes + ([(picture, crop)] if crop else []):
            self.assertTrue(0 <= left < right <= of.width and 0 <= top < below <= of.height)

    def test_a_photo_of_24_megapixels_is_compared(self):
        picture = Image.new("RGB", (6000, 4000), (120, 130, 140))
        small, out = io.BytesIO(), io.BytesIO()
        picture.resize((160, 120)).save(small, "JPEG")
        picture.save(out, "JPEG")
        data = small.getvalue() + out.getvalue()
        start = len(small.getvalue())
        answer: dict = {"ok": True}
        shown = worker_pictures._finish(picture, data, {
            "format": "JPEG", "side": 360, "preview": [0, start]}, answer, 1)
        self.assertEqual((answer["preview"], bool(shown)), ("compared", True))


class UnreadTest(unittest.TestCase):
    """What a decoder makes of a medium that gives some of a file's bytes, or none."""

    def file_of(self, bad: range) -> decode_worker.ExtentFile:
        size = 3 << 20
        place = self.enterContext(tempfile.NamedTemporaryFile())
        place.write(b"\x77" * size)
        place.flush()
        real = os.pread

        def pread(fd, length, offset):
            if any(at in bad for at in (offset, offset + length - 1)) or (
                    offset <= bad.start < offset + length):
                raise OSError(errno.EIO, "no such block")
            return real(fd, length, offset)

        self.enterContext(mock.patch.object(decode_worker.os, "pread", pread))
        return self.enterContext(decode_worker.ExtentFile(place.name, [(0, size)]))

    def test_a_hole_is_read_past_and_told(self):
        file = self.file_of(range(8192, 20_480))
        data = file.read()
        self.assertEqual(data, b"\x77" * 8192 + bytes(12_288) + b"\x77" * ((3 << 20) - 20_480))
        self.assertTrue(file.unread)

    def test_a_dying_medium_is_not_asked_for_each_of_its_blocks(self):
        with self.assertRaises(OSError):
            self.file_of(range(4096, 3 << 20)).read()


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

    def test_a_worker_that_reads_nothing_holds_up_nobody(self):
        """As one that something took over might do: its pipe fills and stays full."""
        deaf = subprocess.Popen(["sleep", "600"], stdin=subprocess.PIPE)
        self.addCleanup(deaf.communicate)
        self.addCleanup(deaf.kill)
        with mock.patch.object(decoding, "UNREAD_S", 0.05), self.assertRaises(TimeoutError):
            decoding._hand(deaf, bytes(1 << 20))
        pool = self.pool(workers=1)
        pool.submit("before", request(PHOTO))
        self.assertTrue(self.collect(pool)["before"].ok)
        (process,) = pool.processes()
        hand = decoding._hand

        def handed(worker, data):
            if worker.pid == process:
                raise TimeoutError
            hand(worker, data)

        with mock.patch.object(decoding, "_hand", handed):
            pool.submit("first", request(jpeg(scene(1, 2000, 1500))))
            found = self.collect(pool)  # by the next worker
        self.assertTrue(found["first"].ok)
        self.assertNotIn(process, pool.processes())

    def test_small_ones_pass_a_large_one_that_waits_for_room(self):
        pool = self.pool(workers=2)
        large = replace(request(jpeg(scene(1, 2000, 1500))), pixels=45_000_000)
        for key, asked in (("first", large), ("second", large), ("small", request(PHOTO))):
            pool.submit(key, asked)
        self.assertEqual({w.key for w in pool._workers}, {"first", "small"})
        pool._passed = 1000  # nobody is passed over for good
        pool.submit("next", request(PHOTO))
        (small,) = (worker for worker in pool._workers if worker.key == "small")
        small.key = None
        self.assertFalse(pool._hand_out(pool._queue, False))
        small.key = "small"  # it still is at work: no other pool may have it

    def test_what_takes_too_much_is_tried_again_behind_all_others_and_then_not_made(self):
        pool = self.pool(workers=1, cpu_limit_s=-1.0)
        started = []

        def held(start=pool._start):
            started.append(start())
            os.kill(started[-1].process.pid, signal.SIGSTOP)  # it must not be done too soon
            return started[-1]

        pool._start = held
        pool.submit(1, request(jpeg(scene(1, 64, 48))))
        pool.submit(2, request(b"nonsense"))
        found = self.collect(pool)
        self.assertEqual(found[1].error, "time")
        self.assertEqual(len(started), 4)
        walk = formats()["jpeg"].walk(MemorySource(PHOTO), 0, len(PHOTO))
        check = next(c for c in judge(walk, found[1], "JPEG").checks if c.name == "full decode")
        self.assertEqual((check.outcome, check.code), (Outcome.NOT_MADE, "decode-time"))

    def test_a_worker_that_sleeps_on_a_busy_machine_is_not_given_up(self):
        """The clock may run as it likes; what counts is the time of the processor."""
        pool = self.pool(workers=1, cpu_limit_s=30.0)
        pool.submit(1, request(PHOTO))
        real = decoding.time.monotonic
        self.addCleanup(setattr, decoding.time, "monotonic", real)
        decoding.time.monotonic = lambda: real() + 500
        self.assertTrue(self.collect(pool)[1].ok)

    def test_bytes_that_cannot_be_read_are_told_at_once_and_leave_the_worker_free(self):
        class Bad(MemorySource):
            def read_into(self, offset, target):
                raise SourceError("source-range", path="card", start=0, stop=512, reason="EIO")

        pool = self.pool(workers=1)
        pool.submit(1, DecodeRequest(Bad(PHOTO), ((0, len(PHOTO)),), "JPEG", 1))
        pool.submit(2, request(PHOTO))
        self.assertEqual(pool._workers[0].key, 2)
        found = self.collect(pool)
        self.assertEqual(found[1].error, "unreadable")
        self.assertTrue(found[2].ok)

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
