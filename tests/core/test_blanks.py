"""Blank sectors among plain samples are doubted, with their place; silence and black are not."""

import io
import struct
import tempfile
import threading
import unittest
import wave
from pathlib import Path

import numpy as np
from PIL import Image

from needlewright.core.finds import Grade
from needlewright.core.kernels.foreign import sector_looks
from needlewright.core.search.examining import examine
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.blank_runs import BlankRuns, Samples
from needlewright.core.structures.view import View

RATE, SECTOR = 44_100, 512


def sound(samples: np.ndarray, width: int = 2) -> bytes:
    """A WAVE file of samples from -1 to 1 in two channels, of which the second is silent."""
    scaled = (samples * (2 ** (8 * width - 1) - 1)).astype("<i8")
    raw = (scaled + 128 if width == 1 else scaled).astype("<i8").view(np.uint8)
    left = raw.reshape(-1, 8)[:, :width]
    right = np.full_like(left, 128 if width == 1 else 0)
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setparams((2, width, RATE, 0, "NONE", ""))
        file.writeframes(np.hstack([left, right]).tobytes())
    return out.getvalue()


def picture(form: str, mode: str = "RGB", wide: int = 700) -> bytes:
    """A smooth picture without any black in it."""
    y, x = np.mgrid[:480, :wide]
    gray = Image.fromarray((20 + x * 100 // wide + y * 100 // 480).astype(np.uint8))
    out = io.BytesIO()
    gray.convert(mode).save(out, form)
    return out.getvalue()


def with_gap(data: bytes, at: int, size: int, value: int = 0) -> bytes:
    return data[:at] + bytes([value]) * size + data[at + size :]


class BlanksTest(unittest.TestCase):
    def setUp(self) -> None:
        room = tempfile.TemporaryDirectory()
        self.addCleanup(room.cleanup)
        self.room = Path(room.name)
        time = np.arange(RATE * 2) / RATE
        self.tone = 0.5 * np.sin(2 * np.pi * 110 * time)

    def judge(self, data: bytes, name: str) -> tuple[Grade, list[tuple[int, int]]]:
        """The grade, and (offset, bytes) of each gap that was told."""
        path = self.room / name
        path.write_bytes(data)
        (done,) = examine([path], threading.Event())
        assert done.find is not None
        return done.find.grade, [(c.values["offset"], c.values["size"]) for c in done.find.checks
                                 if c.code == "samples-blank"]

    def test_a_gap_in_smooth_samples_is_doubted_with_its_place(self) -> None:
        files = {"a.bmp": picture("BMP"), "b.bmp": picture("BMP", "L"), "c.tif": picture("TIFF"),
                 **{f"{width}.wav": sound(self.tone, width) for width in (1, 2, 3, 4)}}
        for name, data in files.items():
            self.assertEqual(self.judge(data, name)[1], [], name)
            for size in (SECTOR, 4096, 65_536):
                for value in (0, 255) if name.endswith("p") else (0,):
                    at = 60 * SECTOR
                    grade, told = self.judge(with_gap(data, at, size, value), name)
                    self.assertEqual((grade, told), (Grade.UNPROVEN, [(at, size)]), (name, size))

    def test_a_gap_that_is_not_the_mediums_is_not_doubted(self) -> None:
        for name, data in (("a.bmp", picture("BMP")), ("a.wav", sound(self.tone))):
            for at, size in ((60 * SECTOR + 100, 4096), (60 * SECTOR, 4096 + 60)):
                self.assertEqual(self.judge(with_gap(data, at, size), name)[1], [], (name, at))

    def test_silence_and_fades_that_happen_to_fit_sectors_are_recorded_so(self) -> None:
        frames = SECTOR // 4
        fade = np.ones(self.tone.size)
        begin = 40 * frames + (SECTOR - 44) // 4  # at a sector, behind a header of 44 bytes
        fade[begin - 400 : begin] = np.linspace(1, 0, 400, endpoint=False)
        fade[begin : begin + 16 * frames] = 0
        fade[begin + 16 * frames : begin + 16 * frames + 400] = np.linspace(0, 1, 401)[1:]
        self.assertEqual(self.judge(sound(self.tone * fade), "fade.wav")[1], [])
        self.assertEqual(self.judge(sound(self.tone * 0), "silent.wav")[1], [])

    def test_a_bar_and_a_dark_thing_are_the_pictures_own(self) -> None:
        # Rows of 3,072 bytes, six sectors, in a TIFF whose first row begins at a sector.
        pixels = np.full((400, 1024, 3), 90, np.uint8)
        pixels[100:140] = 0
        pixels[200:300, 512:1024 - 170] = 0
        data = bytearray()
        head = struct.pack("<2sHI", b"II", 42, 512 + pixels.nbytes)
        data += head.ljust(SECTOR, b"\0") + pixels.tobytes()
        bits_at = len(data) + 2 + 8 * 12 + 4
        entries = ((0x100, 4, 1, 1024), (0x101, 4, 1, 400), (0x102, 3, 3, bits_at),
                   (0x103, 3, 1, 1), (0x106, 3, 1, 2), (0x111, 4, 1, SECTOR), (0x115, 3, 1, 3),
                   (0x117, 4, 1, pixels.nbytes))
        data += struct.pack("<H", 8) + b"".join(struct.pack("<HHII", *e) for e in entries)
        data += bytes(4) + struct.pack("<3H", 8, 8, 8)
        with Image.open(io.BytesIO(bytes(data))) as opened:
            self.assertTrue((np.asarray(opened) == pixels).all())
        self.assertEqual(self.judge(bytes(data), "dark.tif")[1], [])
        at = SECTOR + 350 * 3072 + SECTOR
        self.assertEqual(self.judge(with_gap(bytes(data), at, 4096), "gap.tif")[1], [(at, 4096)])

    def test_the_size_of_blocks_changes_nothing(self) -> None:
        data = with_gap(with_gap(picture("BMP"), 50 * SECTOR, 2 * SECTOR), 90 * SECTOR, SECTOR)
        sectors = np.frombuffer(data[: len(data) // SECTOR * SECTOR], np.uint8)
        looks, edges = sector_looks(sectors, SECTOR), sectors.reshape(-1, SECTOR)[:, [0, -1]]
        for size in (1, 2, 7, 64, looks.size):
            runs = BlankRuns(View(MemorySource(data), 0, len(data)),
                             Samples(54, len(data), 2100, 3), 0)
            told = [runs.add(looks[at : at + size], edges[at : at + size])
                    for at in range(0, looks.size, size)]
            found = [gap for gap in told if gap is not None]
            self.assertEqual(found[0], (50 * SECTOR, 2 * SECTOR), size)
            if size <= 7:  # one call tells the first gap that ends in it
                self.assertEqual(found[1:], [(90 * SECTOR, SECTOR)])


if __name__ == "__main__":
    unittest.main()
