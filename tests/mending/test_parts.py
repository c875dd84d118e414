"""The parts that several ways to mend are made of: packs and packets, displaced rows, parameter
sets, and all of them with whatever bytes."""

from __future__ import annotations

import io
import random
import threading
import unittest
from functools import cache

import av
import numpy as np
from benchmarks.families import photograph
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.mending.base import Patient, Unmendable
from needlewright.core.mending.clips import own_sets
from needlewright.core.mending.plain_rows import displaced_from
from needlewright.core.mending.program import packs
from needlewright.core.mending.registry import menders
from needlewright.core.sources.memory import MemorySource
from needlewright.demo import clips
from tests.examples import examples
from tests.support import noise, png, scene


@cache
def program(video: str) -> bytes:
    return clips.encode("mpeg", video, "mp2", 70, 20, (160, 120))


class PacksTest(unittest.TestCase):
    def test_payloads_are_what_ffmpeg_reads(self):
        for video in ("mpeg1video", "mpeg2video"):
            data = program(video)
            pictures = packs.Payload(data).bytes
            with av.open(io.BytesIO(data)) as file:
                self.assertIn(pictures.rstrip(b"\0")[:-4],
                              b"".join(bytes(p) for p in file.demux(video=0)) + b"\0")
            sound = packs.Payload(data, packs.SOUNDS).bytes
            with av.open(io.BytesIO(data)) as file:
                self.assertEqual(sound, b"".join(bytes(p) for p in file.demux(audio=0)))

    @examples(60)
    @given(st.sampled_from(("mpeg1video", "mpeg2video")), st.randoms())
    def test_what_is_cut_keeps_its_length_and_the_rest(self, video, rng):
        data = program(video)
        payload = packs.Payload(data, packs.SOUNDS)
        first = rng.randrange(len(payload.bytes))
        stop = rng.randrange(first, len(payload.bytes))
        made = bytearray(data)
        for place, packet in payload.cut(data, first, stop):
            made[place : place + len(packet)] = packet
        self.assertEqual(len(made), len(data))
        kept = packs.Payload(bytes(made), packs.SOUNDS).bytes
        self.assertIn(payload.bytes[first:stop], kept)
        # of fewer bytes than a packet of padding takes, none is made
        self.assertLessEqual(len(kept), stop - first + 2 * packs.PADDED)
        self.assertEqual(len(packs.Payload(bytes(made)).bytes), len(packs.Payload(data).bytes))


class DisplacedTest(unittest.TestCase):
    def test_rows_say_from_where_on_they_are_displaced(self):
        rng = random.Random(4)
        right = tried = 0
        for seed in range(16):
            wide, high = rng.choice(((640, 480), (504, 400)))
            data = np.asarray(photograph(random.Random(seed), wide, high)).tobytes()
            at = rng.randrange(len(data) // 4, len(data) * 3 // 4)
            size = rng.choice((512, 777, 4096))
            for by, hurt in ((-size, data[:at] + data[at + size :]),
                             (size, data[:at] + noise(size, seed) + data[at:])):
                found = displaced_from(np.frombuffer(hurt, np.uint8), wide * 3, 3, by)
                tried += 1
                right += found is not None and abs(found - at) <= wide * 3
            cut = np.frombuffer(data[: len(data) - size], np.uint8)
            self.assertIsNone(displaced_from(cut, wide * 3, 3, -wide * 3))  # by whole rows
        self.assertGreaterEqual(right, tried * 0.8)


class SetsTest(unittest.TestCase):
    def test_sizes_and_paces_are_those_of_the_encoder(self):
        for size in ((320, 240), (330, 186), (322, 242)):
            for rate in (24, 25, 30, 50):
                out = io.BytesIO()
                with av.open(out, "w", format="h264") as file:
                    stream = file.add_stream("libx264", rate=rate)
                    stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
                    for number in range(3):
                        frame = av.VideoFrame.from_ndarray(np.full(
                            (size[1], size[0], 3), 40 * number, np.uint8), "rgb24")
                        file.mux(stream.encode(frame))
                    file.mux(stream.encode())
                units = out.getvalue().split(b"\0\0\1")
                sps = next(u for u in units if u[:1] == b"\x67").rstrip(b"\0")
                order = own_sets.order_of_avc(sps)
                self.assertEqual((order.width, order.height), size)
                self.assertAlmostEqual(order.rate, rate, delta=0.01)


class AnyBytesTest(unittest.TestCase):
    """No mender raises anything but what it says, whatever it is given."""

    def files(self) -> dict[str, bytes]:
        found = {"png": png(scene(3, 90, 70)), "mpg": program("mpeg2video")}
        for form, name in (("gif", "GIF"), ("bmp", "BMP"), ("tiff", "TIFF"), ("webp", "WEBP")):
            out = io.BytesIO()
            scene(4, 90, 70).convert("P" if form == "gif" else "RGB").save(out, name)
            found[form] = out.getvalue()
        Image.open(io.BytesIO(found["tiff"])).verify()
        found["flv"] = clips.encode("flv", "libx264", "aac", 70, 12, (160, 120))
        found["asf"] = clips.encode("asf", "wmv2", "wmav2", 70, 12, (160, 120))
        found["mp4"] = clips.encode("mp4", "libx264", "aac", 70, 12, (160, 120),
                                    coder={"x264-params": "repeat-headers=1"})
        return found

    def test_damage_of_all_kinds(self):
        rng = random.Random(7)
        files = self.files()
        for number in range(500):
            form = rng.choice(sorted(files))
            data = bytearray(files[form])
            for _ in range(rng.randrange(1, 5)):
                at, size = rng.randrange(len(data)), rng.choice((1, 4, 40, 900))
                kind = rng.randrange(4)
                part = (bytes(size), rng.randbytes(size), b"", b"\xff" * size)[kind]
                data[at : at + (size if kind != 1 else 0)] = part
            for mender in menders().values():
                if form not in mender.formats:
                    continue
                patient = Patient(MemorySource(bytes(data)), f"x.{form}", form, None, [],
                                  threading.Event())
                with self.subTest(form, number=number):
                    try:
                        for made in mender.mend(patient):
                            out = io.BytesIO()
                            made.write(out)
                            self.assertTrue(0 <= made.share <= 1 and out.getvalue())
                    except (Unmendable, FormatError, SourceError):
                        pass


if __name__ == "__main__":
    unittest.main()
