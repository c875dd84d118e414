"""GIF, BMP, TIFF, WebP and HEIC: what is there stays as Pillow shows it, what is not is neutral and
told."""

from __future__ import annotations

import io
import random
import struct
import unittest

import numpy as np
from benchmarks.families import photograph
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.mending.tiff import strips
from tests.examples import examples
from tests.media.pictures import layered
from tests.mending import damage
from tests.support import FolderTest, noise, scene

SIZE = 212, 150


def saved(picture: Image.Image, form: str, **options) -> bytes:
    out = io.BytesIO()
    picture.save(out, form, **options)
    return out.getvalue()


def pixels(data: bytes, frame: int = 0) -> np.ndarray:
    picture = Image.open(io.BytesIO(data))
    if frame:  # of a PSD frames are layers
        picture.seek(frame)
    return np.asarray(picture.convert("RGB")).astype(int)


def grade_of(done) -> str:
    """What a mended file of a coding without checksums is at best."""
    return "unproven" if done.share >= 1.0 else "partial"


class OtherPicturesTest(FolderTest):
    def mend(self, name: str, data: bytes, whole: bytes, share: float, delta: float = 0.06,
             *references: bytes):
        """Mend; every pixel that is not told to be missing is the original's."""
        done = damage.mended(self.folder, name, data, *references)
        self.assertIsNotNone(done.output, (name, done.why))
        made = done.output.read_bytes()
        told = {change.code: change.values for change in done.changes}
        same = (pixels(made) == pixels(whole)).all(axis=2)
        for top, left, bottom, right in told.get("rows-missing", {}).get("areas", ()):
            same[top:bottom, left:right] = True
        self.assertTrue(same.all(), (name, told))
        self.assertAlmostEqual(done.share, share, delta=delta, msg=name)
        return done, made

    def test_bmp(self):
        for mode in ("RGB", "L", "P", "RGBA"):
            whole = saved(scene(5, *SIZE).convert(mode), "BMP")
            with self.subTest(mode):
                name = f"{mode}"
                body = len(whole) - int.from_bytes(whole[10:14], "little")
                done, _ = self.mend(f"{name}-cut.bmp", whole[: len(whole) - body // 4], whole, 0.75)
                self.assertEqual(done.doubts, ("unproven",))  # nothing checks samples
                if mode == "RGB":
                    for size in (700, 2500):
                        at = len(whole) // 2
                        removed = whole[:at] + whole[at + size :]
                        self.mend(f"{name}-less{size}.bmp", removed, whole, 0.97)
                        added = whole[:at] + noise(size) + whole[at:]
                        self.mend(f"{name}-more{size}.bmp", added, whole, 0.97)
                wrong = whole[:2] + b"\1\0\0\0" + whole[6:10] + bytes(4) + whole[14:]
                self.mend(f"{name}-sizes.bmp", wrong, whole, 1.0)
                lost = bytes(54) + whole[54:]
                if mode in ("RGB", "RGBA"):
                    done, _ = self.mend(f"{name}-lost.bmp", lost, whole, 1.0)
                    self.assertIn("size-found", [c.code for c in done.changes])
                other = saved(scene(6, *SIZE).convert(mode), "BMP")
                if mode in ("RGB", "L"):  # palettes differ
                    done, _ = self.mend(f"{name}-lent.bmp", lost, whole, 1.0, 0.06, other)
                    self.assertTrue(done.reference.endswith("sibling 0.bmp"))
                    self.assertEqual(bool(done.doubts), mode == "L")  # a palette is its own

    def test_gif(self):
        frames = [scene(seed, *SIZE).convert("P", palette=Image.Palette.ADAPTIVE, colors=64)
                  for seed in (1, 2, 3)]
        still = saved(frames[0], "GIF")
        moving = saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=80)
        done, made = self.mend("cut.gif", still[: len(still) * 2 // 3], still, 0.62)
        self.assertEqual(done.grade, grade_of(done))
        self.mend("interlaced.gif", saved(frames[0], "GIF", interlace=0)[:-1], still, 1.0)
        self.mend("mark.gif", bytes(6) + still[6:], still, 1.0)
        cut = len(moving) // 2  # within the second frame
        _, made = self.mend("two.gif", moving[:cut], moving, 1.0)
        self.assertEqual(getattr(Image.open(io.BytesIO(made)), "n_frames", 1), 1)
        hit = moving[:cut] + noise(900, 4) + moving[cut + 900 :]
        _, made = self.mend("hit.gif", hit, moving, 1.0)
        picture = Image.open(io.BytesIO(made))
        self.assertGreaterEqual(picture.n_frames, 2)
        last = picture.n_frames - 1
        self.assertTrue((pixels(made, last) == pixels(moving, 2)).all())

    def test_gif_behind_damage(self):
        """Codes begin anew now and then, and what leads to their end has its place from there."""
        whole = saved(photograph(random.Random(3), 424, 300).quantize(128), "GIF")
        for share in (0.3, 0.6):
            at = int(len(whole) * share)
            for name, data in (("zeroed", whole[:at] + bytes(900) + whole[at + 900 :]),
                               ("removed", whole[:at] + whole[at + 700 :]),
                               ("inserted", whole[:at] + noise(1500) + whole[at:])):
                with self.subTest(name, share=share):
                    done, _ = self.mend(f"{name}-{share}.gif", data, whole, 0.86, 0.1)
                    self.assertEqual(done.grade, grade_of(done), done.doubts)

    def test_tiff(self):
        for order in ("<", ">"):
            for coding in (None, "tiff_lzw", "tiff_adobe_deflate", "packbits"):
                picture = scene(7, *SIZE).convert("RGB")
                whole = saved(picture, "TIFF", compression=coding, strip_size=8192,
                              big_tiff=False) if order == "<" else _swapped(picture, coding)
                if whole is None:
                    continue
                name = f"{'big' if order == '>' else 'little'}-{coding}"
                with self.subTest(name):
                    done, _ = self.mend(f"{name}-head.tif", bytes(8) + whole[8:], whole, 1.0)
                    self.assertEqual(done.grade, grade_of(done))

    def test_tiff_strips(self):
        whole = saved(scene(7, 212, 300).convert("RGB"), "TIFF", strip_size=212 * 3 * 30)
        first = int.from_bytes(whole[4:8], "little")
        if first > 1000:  # the directory stands behind the picture
            self.skipTest("this library writes directories last")
        done, _ = self.mend("cut.tif", whole[: len(whole) * 3 // 4], whole, 0.75)
        self.assertEqual(done.grade, grade_of(done))

    def test_tiff_strips_that_do_not_decode(self):
        for coding in ("tiff_adobe_deflate", "packbits"):
            picture = Image.merge("RGB", [Image.fromarray(
                np.frombuffer(noise(212 * 300, seed), np.uint8).reshape(300, 212) & 31)
                for seed in (1, 2, 3)])
            whole = saved(picture, "TIFF", compression=coding, strip_size=212 * 3 * 30)
            at = len(whole) // 2
            hit = whole[:at] + bytes(700) + whole[at + 700 :]
            with self.subTest(coding):
                done, _ = self.mend(f"{coding}.tif", hit, whole, 0.9)
                self.assertEqual(done.grade, grade_of(done))

    def test_psd(self):
        picture = photograph(random.Random(3), 424, 300)
        whole, plain = layered(picture, True), layered(picture, False)
        table = whole.index(b"8BIM") + 28 + 4  # behind the layers, of which there are none
        at = len(whole) // 2
        for name, data, codes, least in (
                ("head", bytes(26) + whole[26:], ["header-made"], 1.0),
                ("front", noise(table) + whole[table:], ["header-made", "layers-left-out"], 1.0),
                ("cut front", whole[40:], ["header-made", "layers-left-out"], 1.0),
                ("length", whole[:30] + b"\x7f" + whole[31:], ["layers-left-out"], 1.0),
                ("hole", whole[:at] + bytes(3000) + whole[at + 3000 :], ["rows-missing"], 0.95),
                ("end", whole[: at + 9000], ["rows-missing"], 0.5),
                ("plain end", plain[: len(plain) * 3 // 4], ["rows-missing"], 0.7)):
            with self.subTest(name):
                done, made = self.mend(f"{name}.psd", data, whole, least, 1 - least + 0.001)
                self.assertEqual([c.code for c in done.changes], codes)
                self.assertEqual(done.doubts, ())
                self.assertEqual(Image.open(io.BytesIO(made)).format, "PSD")
        grey = Image.merge("RGB", [picture.convert("L")] * 3)
        self.mend("alike.psd", bytes(30) + layered(grey, True)[30:], layered(grey, True), 1.0)
        done = damage.mended(self.folder, "both.psd", bytes(26) + whole[26:at])
        self.assertEqual((done.output, done.why), (None, "size-unknown"))

    def test_a_tiff_that_lost_its_directory(self):
        """Cut off in front of it, or with its head overwritten: lent by another of that size."""
        for coding in (None, "tiff_lzw", "tiff_adobe_deflate", "packbits"):
            whole, other = (saved(photograph(random.Random(n), 424, 300), "TIFF",
                                  compression=coding, strip_size=424 * 3 * 30) for n in (3, 4))
            if coding is None:
                whole, other = _directory_last(whole), _directory_last(other)
            for share in (0.55, 0.7):
                cut = whole[: int(len(whole) * share)]
                with self.subTest(coding, share=share):
                    done, _ = self.mend(f"{coding}-{share}.tif", cut, whole, share, 0.11, other)
                    self.assertEqual(done.grade, grade_of(done), done.doubts)
                    self.assertEqual([c.code for c in done.changes],
                                     ["index-of-picture", "rows-missing"])
        small = saved(photograph(random.Random(5), 200, 300), "TIFF", compression="tiff_lzw")
        for number, (others, why) in enumerate((
                ((), "index-lost"), ((small,), "index-picture-other"),
                ((b"no picture" * 99,), "reference-damaged"))):
            done = damage.mended(self.folder, f"{number}.tif", cut, *others)
            self.assertEqual((done.output, done.why), (None, why))

    def test_a_tiff_whose_directory_was_moved(self):
        for coding in ("tiff_adobe_deflate", None):
            whole = saved(photograph(random.Random(3), 424, 300), "TIFF", compression=coding)
            if coding is None:  # Pillow writes the directory first; here it stands last
                whole = _directory_last(whole)
            at = len(whole) // 2
            for name, data in (("less", whole[:at] + whole[at + 700 :]),
                               ("more", whole[:at] + noise(900) + whole[at:])):
                with self.subTest(coding, name=name):
                    done = damage.mended(self.folder, f"{name}-{coding}.tif", data)
                    self.assertIn("put-back", [c.code for c in done.changes], done.why)
                    same = pixels(done.output.read_bytes()) == pixels(whole)
                    self.assertGreater(same.all(axis=2).mean(), 0.6 if coding else 0.97)

    def test_webp(self):
        for lossless in (False, True):
            whole = saved(scene(8, *SIZE).convert("RGB"), "WEBP", lossless=lossless)
            with self.subTest(lossless=lossless):
                self.mend(f"{lossless}-head.webp", bytes(12) + whole[12:], whole, 1.0)
                self.mend(f"{lossless}-size.webp", whole[:4] + b"\1\0\0\0" + whole[8:], whole, 1.0)
                self.mend(f"{lossless}-off.webp", noise(12, 5) + whole[12:], whole, 1.0)

    def test_heic_and_avif(self):
        import pillow_heif

        for form, extension in (("HEIF", "heic"), ("AVIF", "avif")):
            out = io.BytesIO()
            if form == "HEIF":
                pillow_heif.from_pillow(scene(9, *SIZE).convert("RGB")).save(out, quality=80)
            else:
                scene(9, *SIZE).convert("RGB").save(out, "AVIF")
            whole = out.getvalue()
            at = whole.find(b"meta") - 4
            with self.subTest(form):
                done = damage.mended(self.folder, f"x.{extension}", bytes(at) + whole[at:])
                self.assertIsNotNone(done.output, done.why)
                made = done.output.read_bytes()
                self.assertEqual(made[at:], whole[at:])
                self.assertTrue((pixels(made) == pixels(whole)).all())
                self.assertEqual(done.output.suffix, f".{extension}")
                lost = bytes(at + 60) + whole[at + 60 :]
                done = damage.mended(self.folder, f"y.{extension}", lost)
                if form == "HEIF":
                    self.assertEqual((done.output, done.why), (None, "index-picture-missing"))
                else:
                    self.assertEqual([c.code for c in done.changes], ["index-by-data"])

    def test_any_bytes(self):
        for suffix in ("bmp", "gif", "psd", "tif", "webp", "heic", "avif", "png"):
            for seed, data in enumerate((b"", b"\0", noise(70, 3), noise(6000, 4), bytes(5000))):
                done = damage.mended(self.folder, f"{seed}.{suffix}", data)
                self.assertIsNone(done.output, suffix)
                self.assertTrue(done.why)


def _directory_last(whole: bytes) -> bytes:
    """The same TIFF of one strip with its directory behind the picture."""
    with Image.open(io.BytesIO(whole)) as picture:
        start, size = picture.tag_v2[273][0], sum(picture.tag_v2[279])
    wide, high = Image.open(io.BytesIO(whole)).size
    entries = ((256, 4, 1, wide), (257, 4, 1, high), (258, 3, 3, 8 + size), (259, 3, 1, 1),
               (262, 3, 1, 2), (273, 4, 1, 8), (277, 3, 1, 3), (278, 4, 1, high),
               (279, 4, 1, size))
    return (b"II*\0" + struct.pack("<I", 8 + size + 8) + whole[start : start + size]
            + struct.pack("<HHHH", 8, 8, 8, 0) + struct.pack("<H", len(entries))
            + b"".join(struct.pack("<HHII", *entry) for entry in entries) + bytes(4))


def _swapped(picture: Image.Image, coding: str | None) -> bytes | None:
    """A TIFF in the other byte order; None where Pillow writes none."""
    if coding is not None:
        return None
    from PIL import TiffImagePlugin

    info = TiffImagePlugin.ImageFileDirectory_v2(prefix=b"MM")
    return saved(picture, "TIFF", tiffinfo=info) if info.prefix == b"MM" else None


class StripsTest(unittest.TestCase):
    @examples(25)
    @given(st.binary(min_size=1, max_size=2000), st.sampled_from((1, 3)))
    def test_what_is_coded_decodes_to_the_same(self, samples, pixel):
        """LZW and PackBits, as Pillow reads them from a TIFF of one strip."""
        samples = samples[: len(samples) // pixel * pixel] or bytes(pixel)
        for name, coding in (("tiff_lzw", strips.LZW), ("packbits", strips.PACKBITS)):
            picture = Image.new("L" if pixel == 1 else "RGB", (len(samples) // pixel, 1))
            whole = bytearray(saved(picture, "TIFF", compression=name))
            with Image.open(io.BytesIO(bytes(whole))) as made:
                start, length = made.tag_v2[273][0], made.tag_v2[279][0]
            data = strips.coded(samples, coding)
            if len(data) > length:
                whole += data
                place = whole.find(b"\x11\x01") + 8
                whole[place : place + 4] = (len(whole) - len(data)).to_bytes(4, "little")
                place = whole.find(b"\x17\x01") + 8
                whole[place : place + 4] = len(data).to_bytes(4, "little")
            else:
                whole[start : start + len(data)] = data
            decoded = Image.open(io.BytesIO(bytes(whole)))
            self.assertEqual(decoded.tobytes(), samples, name)


if __name__ == "__main__":
    unittest.main()
