"""PNG and WAV: chunks, sizes and checksums from what stands in the data, against Pillow and
wave."""

from __future__ import annotations

import io
import random
import struct
import wave
import zlib
from fractions import Fraction

import av
import numpy as np
from av.codec.context import Flags
from PIL import Image

from needlewright.core.mending.png.passes import passes_of
from tests.mending import damage
from tests.support import FolderTest, noise, png, scene


def chunk(data: bytes, name: bytes) -> tuple[int, int]:
    """(start, stop) of the first chunk of a PNG called so."""
    place = data.find(name) - 4
    return place, place + 12 + struct.unpack_from(">I", data, place)[0]


def pixels(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))


class PngTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.whole = png(scene(3, 203, 150))

    def mend(self, name: str, data: bytes):
        done = damage.mended(self.folder, f"{name}.png", data)
        self.assertIsNotNone(done.output, (name, done.why))
        return done, done.output.read_bytes()

    def test_headers_and_checksums_are_made_anew(self):
        whole = self.whole
        start, stop = chunk(whole, b"IHDR")
        cases = {
            "sum": whole[: stop - 4] + b"\1\2\3\4" + whole[stop:],
            "size": whole[: start + 8] + bytes(8) + whole[start + 16 :],
            "none": whole[:start] + whole[stop:],
            "signature": bytes(8) + whole[8:], "front": bytes(stop) + whole[stop:],
            "end": whole[:-12], "end sum": whole[:-4] + bytes(4)}
        for name, data in cases.items():
            with self.subTest(name):
                done, made = self.mend(name, data)
                self.assertEqual((done.grade, done.share), ("mended", 1.0))
                self.assertTrue((pixels(made) == pixels(whole)).all())

    def test_every_kind_of_pixel(self):
        for mode in ("1", "L", "LA", "P", "RGB", "RGBA", "I;16"):
            with self.subTest(mode):
                picture = scene(4, 120, 90).convert("L" if mode == "I;16" else mode)
                if mode == "I;16":
                    values = np.asarray(picture).astype(np.uint16) * 257
                    picture = Image.fromarray(values)
                whole = png(picture)
                start, _ = chunk(whole, b"IHDR")
                wrong = whole[: start + 8] + bytes(8) + whole[start + 16 :]  # its checksum is there
                done, made = self.mend(mode.replace(";", ""), wrong)
                self.assertEqual(done.grade, "mended")
                size = Image.open(io.BytesIO(made)).size
                self.assertEqual(size, (120, 90))

    def test_rows_behind_damage_are_taken_up_again(self):
        """Without filters each sample is by itself; with them what is lost is handed on."""
        original = np.asarray(scene(8, 400, 300).convert("RGB"))
        for name, kinds in (("none", [0]), ("mixed", [1, 2, 2, 0, 2, 3, 1])):
            rows = []
            for number, row in enumerate(original):
                kind = kinds[number % len(kinds)]
                above = original[number - 1].astype(int) if number else np.zeros_like(row, int)
                left = np.vstack((np.zeros((1, 3), int), row[:-1].astype(int)))
                by = (0, left, above, (left + above) // 2)[kind]
                coded = ((row.astype(int) - by) % 256).astype(np.uint8)
                rows.append(bytes([kind]) + coded.tobytes())
            body = zlib.compress(b"".join(rows), 6)
            pieces = [body[at : at + 8192] for at in range(0, len(body), 8192)]
            head = struct.pack(">IIBBBBB", 400, 300, 8, 2, 0, 0, 0)
            parts = [(b"IHDR", head), *((b"IDAT", piece) for piece in pieces), (b"IEND", b"")]
            whole = b"\x89PNG\r\n\x1a\n" + b"".join(
                struct.pack(">I4s", len(inner), kind) + inner
                + struct.pack(">I", zlib.crc32(kind + inner)) for kind, inner in parts)
            self.assertTrue((pixels(whole)[:, :, :3] == original).all())
            at = len(whole) // 3
            for kind, data in (("zeros", whole[:at] + bytes(512) + whole[at + 512 :]),
                               ("removed", whole[:at] + whole[at + 700 :]),
                               ("inserted", whole[:at] + noise(2048, 3) + whole[at:])):
                with self.subTest(name, kind=kind):
                    done, made = self.mend(f"{name}-{kind}", data)
                    told = {change.code: change.values for change in done.changes}
                    right = (pixels(made)[:, :, :3] == original).all(axis=2)
                    for top, _, bottom, _ in told["rows-missing"]["areas"]:
                        right[top:bottom] = True
                    self.assertTrue(right.all())
                    head = told["rows-missing"]["areas"][0][0]
                    self.assertGreater(done.share, head / 300 + (0.3 if name == "none" else 0.005))
                    self.assertGreater(told["taken-up"]["row"], head)

    def test_passes_behind_damage(self):
        """What FFmpeg wrote in passes, in rows of Pillow's; coarse pixels stand for lost ones."""
        original = np.asarray(scene(8, 403, 301).convert("RGB"))
        coder = av.CodecContext.create("png", "w")
        coder.width, coder.height = 403, 301
        coder.pix_fmt, coder.time_base = "rgb24", Fraction(1, 25)
        coder.flags |= Flags.interlaced_dct
        frame = av.VideoFrame.from_ndarray(original, "rgb24")
        whole = b"".join(bytes(p) for p in (*coder.encode(frame), *coder.encode(None)))
        self.assertEqual(whole[28], 1)
        at = len(whole) // 2
        for kind, data in (("zeros", whole[:at] + bytes(512) + whole[at + 512 :]),
                           ("cut", whole[:at]), ("early", whole[: at // 4]),
                           ("removed", whole[:at] + whole[at + 700 :])):
            with self.subTest(kind):
                done, made = self.mend(f"passes-{kind}", data)
                told = {change.code: change.values for change in done.changes}
                seen = np.asarray(Image.open(io.BytesIO(made)).convert("RGB")).astype(int)
                right = (seen == original).all(axis=2)
                self.assertGreaterEqual(right.mean(), done.share)
                first = min(told[c]["areas"][0][0] for c in told if "areas" in told[c])
                self.assertTrue(right[:first].all())
                self.assertAlmostEqual(sum(told.get(c, {}).get("share", 0) for c in (
                    "detail-missing", "blocks-missing")) + done.share, 1, delta=0.001)
                # A pixel that is lost is that of its block that came first.
                blocks = np.isin(np.arange(301) // 8, np.flatnonzero(right[::8, ::8].all(axis=1)))
                self.assertLess(np.abs(seen - original)[blocks].mean(), 30)

    def test_passes_hold_each_pixel_once(self):
        for size in ((1, 1), (5, 3), (8, 8), (17, 2), (3, 40)):
            count = np.zeros(size[::-1], int)
            for one in passes_of(*size, 3):
                count[one.down, one.across] += 1
                self.assertEqual(count[one.down, one.across].shape, (one.rows, one.row // 3))
            self.assertTrue((count == 1).all())

    def test_a_claim_that_no_memory_holds_is_refused(self):
        start, stop = chunk(self.whole, b"IHDR")
        for size in (65_535, (1 << 31) - 1):
            head = b"IHDR" + struct.pack(">II", size, size) + self.whole[start + 16 : stop - 4]
            claim = struct.pack(">I", 13) + head + struct.pack(">I", zlib.crc32(head))
            done = damage.mended(self.folder, f"{size}.png",
                                 self.whole[:start] + claim + self.whole[stop:-400])
            self.assertEqual((done.output, done.why), (None, "too-large"))

    def test_rows_behind_damage_are_neutral_and_told(self):
        whole = self.whole
        for name, data in (("cut", whole[: len(whole) * 2 // 3]),
                           ("hit", whole[: len(whole) // 2] + bytes(90)
                            + whole[len(whole) // 2 + 90 :])):
            with self.subTest(name):
                done, made = self.mend(name, data)
                told = next(c for c in done.changes if c.code == "rows-missing")
                good = told.values["total"] - told.values["rows"]
                self.assertEqual(told.values["total"], 150)
                self.assertAlmostEqual(done.share, good / 150, delta=0.001)
                old, new = pixels(whole), pixels(made)
                sure = good if name == "cut" else good // 2
                self.assertTrue((new[:sure] == old[:sure]).all())
                self.assertTrue((new[-1, :, :3] == 128).all())

    def test_chunks_in_between_are_kept(self):
        text = b"tEXt" + b"Place\0Alder bend"
        extra = struct.pack(">I", len(text) - 4) + text + struct.pack(">I", zlib.crc32(text))
        _, stop = chunk(self.whole, b"IHDR")
        whole = self.whole[:stop] + extra + self.whole[stop:]
        _, made = self.mend("text", whole[:29] + bytes(4) + whole[33:])
        self.assertEqual(Image.open(io.BytesIO(made)).text, {"Place": "Alder bend"})

    def test_nonsense_is_told(self):
        rng = random.Random(4)
        for number in range(16):
            data = bytearray(self.whole)
            for _ in range(rng.randrange(1, 40)):
                data[rng.randrange(len(data))] = rng.randrange(256)
            done = damage.mended(self.folder, f"{number}.png", bytes(data))
            self.assertTrue(done.output or done.why, number)
        bomb = self.whole[:8] + self.whole[chunk(self.whole, b"IHDR")[0]:].replace(
            struct.pack(">II", 203, 150), b"\x7f\xff\xff\xff" * 2, 1)
        self.assertTrue(damage.mended(self.folder, "bomb.png", bomb).why or True)
        done = damage.mended(self.folder, "n.png", b"\x89PNG\r\n\x1a\n" + noise(90))
        self.assertIsNone(done.output)


def recording(seconds: float = 1.5, channels: int = 2) -> bytes:
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(2)
        file.setframerate(24_000)
        at = np.arange(int(24_000 * seconds))
        tone = (np.sin(at / 11) * 8000 + np.random.default_rng(1).normal(0, 90, at.size))
        file.writeframes(np.repeat(tone.astype("<i2"), channels).tobytes())
    return out.getvalue()


class WavTest(FolderTest):
    def test_sizes_that_were_never_written(self):
        whole = recording()
        wrong = bytearray(whole)
        wrong[4:8] = wrong[40:44] = bytes(4)
        done = damage.mended(self.folder, "x.wav", bytes(wrong))
        self.assertEqual(done.output.read_bytes(), whole)
        self.assertEqual(done.grade, "unproven")  # plain samples have no checksums

    def test_a_lost_header_comes_from_a_sibling_and_is_only_likely(self):
        whole = recording()
        lost = bytes(44) + whole[44:]
        self.assertEqual(damage.mended(self.folder, "a.wav", lost).why, "reference-missing")
        done = damage.mended(self.folder, "b.wav", lost, recording(0.3))
        with wave.open(str(done.output)) as file:
            self.assertEqual((file.getnchannels(), file.getframerate()), (2, 24_000))
        self.assertEqual((done.grade, done.doubts), ("unproven", ("unproven",)))
