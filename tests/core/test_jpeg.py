"""The JPEG walk: true ends, honest damage, hostile input."""

import contextlib
import random
import struct
import time
import unittest

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.exif import read_exif, rfc3339
from needlewright.core.formats.jpeg import accept, walk
from needlewright.core.formats.jpeg_segments import XMP, Headers, read_segment
from needlewright.core.sources.memory import MemorySource
from tests.examples import examples
from tests.support import CLUSTER, camera_jpeg, jpeg, noise, scene, splice

PHOTO = camera_jpeg(1)
PROGRESSIVE = camera_jpeg(2, progressive=True)
RESTARTED = camera_jpeg(3, restart_rows=1)


def walked(data, start=0):
    return walk(MemorySource(data), start, len(data))


class EndsTest(unittest.TestCase):
    def test_every_kind_ends_at_its_last_byte(self):
        files = [PHOTO, PROGRESSIVE, RESTARTED, jpeg(scene(4, 200, 151, "L")),
                 jpeg(scene(5, 99, 77, "CMYK")), jpeg(optimize=True), jpeg(quality=20),
                 jpeg(scene(6, 640, 480), subsampling=1, progressive=True),
                 jpeg(scene(6, 8, 8)), jpeg(scene(7, 1000, 9))]
        for index, data in enumerate(files):
            for behind in (b"", bytes(4096), noise(4096, index), PHOTO):
                with self.subTest(file=index, behind=behind[:4]):
                    pad = -len(data) % 512 if behind else 0
                    found = walked(data + bytes(pad) + behind)
                    self.assertEqual(found.stop, len(data))
                    self.assertTrue(found.ended)
                    self.assertIsNone(found.broken)

    def test_the_next_file_at_a_sector_is_never_swallowed(self):
        comment = (-len(PHOTO)) % 512
        data = PHOTO[:2] + b"\xff\xfe" + struct.pack(">H", comment + 512 - 2) + bytes(
            comment + 512 - 4) + PHOTO[2:]
        self.assertEqual(len(data) % 512, 0)
        self.assertEqual(walked(data + PHOTO).stop, len(data))

    def test_a_preview_appended_by_the_camera_belongs_to_the_file(self):
        preview = jpeg(scene(1, 320, 240))
        loose = PHOTO + preview if len(PHOTO) % 512 else PHOTO + b"\0" + preview
        found = walked(loose + bytes(1000))
        self.assertEqual(found.stop, len(loose))
        listed = _with_index(PHOTO, preview, gap=700)
        found = walked(listed + noise(2000))
        self.assertEqual(found.stop, len(listed))
        self.assertIn("appended picture", [p.name for p in found.parts])

    def test_facts(self):
        facts = walked(PHOTO).facts
        self.assertEqual((facts.width, facts.height), (1024, 768))
        self.assertEqual(facts.taken, "2031-05-12T05:58:12")
        self.assertEqual(facts.camera, "Brackenfield TC-4")
        self.assertEqual(facts.extra["aperture"], "f/2.8")
        start, stop = walked(PHOTO).preview
        self.assertEqual((PHOTO[start : start + 2], PHOTO[stop - 2 : stop]),
                         (b"\xff\xd8", b"\xff\xd9"))

    def test_what_tells_of_editing(self):
        def edited(xmp):
            headers = Headers()
            read_segment(headers, 0xE1, XMP + xmp, 20, 0)
            return headers.edited

        for xmp in (b"<stEvt:action>saved</stEvt:action>", b"stEvt:action='cropped'",
                    b"<xmpMM:DerivedFrom stRef:documentID='7'/>", b'crs:HasSettings="True"',
                    b"xmp:CreateDate='2031-05-12T05:58:12' xmp:ModifyDate='2031-06-01T10:00:00'",
                    b"<xmp:CreateDate>2031-05-12T05:58:12</xmp:CreateDate><xmp:ModifyDate>"
                    b"2031-05-12T05:58:13+02:00</xmp:ModifyDate>"):
            self.assertTrue(edited(xmp), xmp)
        for xmp in (b"", b"Camera:MotionPhoto='1'", b'crs:HasSettings="False"',
                    b"xmp:CreateDate='2031-05-12T05:58:12' xmp:ModifyDate='2031-05-12T05:58:12.40'",
                    b"xmp:ModifyDate='2031-05-12T05:58:12'", b"<xmpMM:History/>"):
            self.assertFalse(edited(xmp), xmp)

    def test_a_frame_of_a_clip_is_no_photo(self):
        """Motion JPEG keeps whole pictures, each behind the head of a chunk."""
        frame = camera_jpeg(5)
        for head, remnant in ((b"00dc" + struct.pack("<I", len(frame)), True),
                              (b"01db" + struct.pack("<I", len(frame) + 1), True),
                              (b"00dc" + struct.pack("<I", len(frame) + 4096), False),
                              (b"00wb" + struct.pack("<I", len(frame)), False), (b"", False)):
            found = walked(head + frame + bytes(600), len(head))
            self.assertEqual((found.ended, found.remnant), (True, remnant), head)

        class Torn(MemorySource):
            def read_at(self, offset, length):
                if offset < 512:
                    raise SourceError("source-range", offset=0, length=512)
                return super().read_at(offset, length)

        data = bytes(512) + frame
        found = walk(Torn(data), 512, len(data))  # what stands in front cannot be read
        self.assertEqual((found.ended, found.remnant), (True, False))

    def test_a_bare_thumbnail_is_one(self):
        start, stop = walked(PHOTO).preview
        bare = PHOTO[start:stop]
        tables = bare.find(b"\xff\xdb")
        self.assertTrue(walked(b"\xff\xd8" + bare[tables:]).remnant)
        self.assertFalse(walked(PHOTO).remnant)


def _with_index(photo: bytes, preview: bytes, gap: int) -> bytes:
    """`photo` with an MPF segment that lists `preview`, `gap` bytes behind the end mark."""
    entries_at = 50
    size = 8 + 2 + 36 + 4 + 32
    segment = b"\xff\xe2" + struct.pack(">H", 2 + 4 + size) + b"MPF\0"
    base = 2 + len(segment)
    at = 2 + len(segment) + size + len(photo) - 2 + gap - base
    block = b"II*\0" + struct.pack("<I", 8) + struct.pack("<H", 3)
    block += struct.pack("<HHI4s", 0xB000, 7, 4, b"0100") + struct.pack("<HHII", 0xB001, 4, 1, 2)
    block += struct.pack("<HHII", 0xB002, 7, 32, entries_at) + struct.pack("<I", 0)
    block += struct.pack("<IIIHH", 0x030000, len(photo), 0, 0, 0)
    block += struct.pack("<IIIHH", 0x010001, len(preview), at, 0, 0)
    return photo[:2] + segment + block + photo[2:] + bytes(gap) + preview


class DamageTest(unittest.TestCase):
    def test_no_truncation_is_ever_complete(self):
        for data in (jpeg(scene(8, 48, 40)), jpeg(scene(8, 48, 40), progressive=True)):
            for length in range(2, len(data)):
                try:
                    found = walked(data[:length])
                except FormatError:
                    continue
                self.assertTrue(found.broken is not None and not found.ended, length)
                only_the_end_is_lost = length >= len(data) - 2
                self.assertTrue(found.share < 1.0 or only_the_end_is_lost, length)

    def test_foreign_clusters_are_noticed_and_placed(self):
        """One photo in three layouts, a hundred splices: none complete, nearly all placed right."""
        rng = random.Random(5)
        foreign = {"text": b"05:58;Reedmouth weir;3;mist\n" * 2000, "zeros": bytes(40_000),
                   "noise": noise(40_000), "photo": camera_jpeg(9)[8000:]}
        exact = late = count = 0
        for data in (PHOTO, PROGRESSIVE, RESTARTED):
            for kind, block in foreign.items():
                for _ in range(9):
                    clusters = rng.choice((1, 2, 4))
                    at = rng.randrange(4, len(data) // CLUSTER - clusters) * CLUSTER
                    spoiled = splice(data, at, block[: clusters * CLUSTER])
                    found = walked(spoiled)
                    with self.subTest(kind=kind, at=at):
                        self.assertIsNotNone(found.broken)
                        self.assertIsNotNone(found.broken.row)
                    count += 1
                    exact += found.broken.offset == at
                    late += found.broken.offset > at + CLUSTER
        self.assertGreater(exact / count, 0.75)
        self.assertLess(late / count, 0.1)

    def test_the_row_and_share_follow_from_the_place(self):
        at = len(PHOTO) // 2 // CLUSTER * CLUSTER
        found = walked(PHOTO[:at] + noise(60_000))
        self.assertEqual(found.broken.offset, at)
        self.assertEqual(found.stop, at)
        self.assertAlmostEqual(found.broken.row / 768, found.share, delta=0.03)
        self.assertTrue(0.2 < found.share < 0.8)

    def test_byte_flips_never_escape_as_other_errors(self):
        rng = random.Random(11)
        for data in (jpeg(scene(8, 64, 48)), jpeg(scene(8, 64, 48), progressive=True)):
            for _ in range(400):
                spoiled = bytearray(data)
                for _ in range(rng.randrange(1, 6)):
                    spoiled[rng.randrange(len(spoiled))] = rng.randrange(256)
                try:
                    found = walked(bytes(spoiled))
                except FormatError:
                    continue
                self.assertTrue(0.0 <= found.share <= 1.0)
                self.assertTrue(0 <= found.stop <= len(spoiled))

    @examples(60)
    @given(st.binary(max_size=600))
    def test_any_bytes_behind_a_start_mark(self, tail):
        with contextlib.suppress(FormatError):
            walked(b"\xff\xd8\xff" + tail)


class HostileTest(unittest.TestCase):
    def test_enormous_dimensions(self):
        at = PHOTO.rindex(b"\xff\xc0")
        huge = PHOTO[: at + 5] + b"\xff\xff\xff\xff" + PHOTO[at + 9 :]
        codes = {c.code for c in walked(huge).checks}
        self.assertIn("dimensions-implausible", codes)

    def test_segment_past_the_end_and_ten_thousand_markers(self):
        with self.assertRaises(FormatError):
            walked(b"\xff\xd8\xff\xe1\xff\xff" + bytes(100))
        many = b"\xff\xd8" + b"\xff\xfe\x00\x02" * 10_000 + PHOTO[2:]
        began = time.process_time()
        self.assertEqual(walked(many).stop, len(many))
        self.assertLess(time.process_time() - began, 20)  # a hang, not a speed

    def test_exif_that_points_at_itself(self):
        loop = b"II*\0\x08\0\0\0" + b"\x01\0" + struct.pack("<HHII", 0x8769, 4, 1, 8)
        loop += struct.pack("<I", 8)
        self.assertIsNone(read_exif(loop).thumbnail)
        nested = PHOTO.replace(b"II*\0", b"II*\0", 1)
        self.assertTrue(walked(nested).ended)
        for length in range(len(loop)):
            read_exif(loop[:length])

    def test_dates_that_are_none(self):
        self.assertEqual(rfc3339("2031:05:12 05:58:12", "+02:00", "5"),
                         "2031-05-12T05:58:12.5+02:00")
        for text in ("", "0000:00:00 00:00:00", "2031:13:12 05:58:12", "    :  :     :  :  "):
            self.assertIsNone(rfc3339(text))

    def test_accept(self):
        self.assertTrue(accept(PHOTO[:64]))
        for head in (b"", b"\xff\xd8", b"\xff\xd8\xff\xd9" + bytes(60), bytes(64)):
            self.assertFalse(accept(head))
