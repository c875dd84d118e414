"""What is called whole, and what is not: a table of grades, and the checks that decide them."""

from __future__ import annotations

import io
import random
import struct
import threading
import unittest
import wave
from dataclasses import replace

import numpy as np
from PIL import Image

from needlewright.core.checks.decoding import DecodeReport, StreamReport
from needlewright.core.checks.grading import AGAINST, PROOF, Grade, judge
from needlewright.core.contents import Stretches
from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.search.bounds import LEAST_BYTES
from needlewright.core.search.carving import claimed_by, follow
from needlewright.core.search.placing import Fate, Placing
from needlewright.core.search.record_finds import RecordCase, find_from
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.structures.stream_end import cut_at_sector, padded_with_zeros
from needlewright.core.structures.view import View
from needlewright.core.volumes.base import Entry, Placed
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Walk
from needlewright.demo.clips import encode
from tests.cards import contents
from tests.media import documents, of_format, samples, sounds
from tests.media.pictures import saved, scene
from tests.support import camera_jpeg, finds_on, medium, noise

PHOTO = camera_jpeg(3)
STOP = threading.Event()
PASS = Check("structure", Outcome.PASS, "structure-ok", {"parts": 1})
FINE = DecodeReport(True, width=4, height=3)
AGREES = DecodeReport(True, width=4, height=3, preview="compared", rows=(0.0,) * 30,
                      correlation=0.99)
PLAYED = DecodeReport(True, streams=(StreamReport("video", 9, 9, 0, None, None, None, (), 3.0),))
HURT = DecodeReport(True, streams=(
    StreamReport("video", 9, 6, 3, 4, 900, 1.0, ((1.0, 2.5),), 3.0),))


def walk(broken=None, **more):
    return Walk(0, 1000, True, broken, 1.0, Facts(4, 3), checks=(PASS,), **more)


BROKEN = {"broken": Break(500, "structure", 500)}


class GradeTableTest(unittest.TestCase):
    """(walk, report, decoder) -> grade, share, the first code against it."""

    table = (
        ("all pass", walk(), FINE, "JPEG", Grade.WHOLE, 1.0, None),
        ("not decoded", walk(), None, "JPEG", Grade.UNPROVEN, 1.0, None),
        ("no decoder", walk(), None, "", Grade.UNPROVEN, 1.0, None),
        ("another size", walk(), DecodeReport(True, width=8, height=3), "JPEG", Grade.UNPROVEN, 1.0,
         "decode-other-size"),
        ("undecodable", walk(), DecodeReport(False, "undecodable", "x"), "JPEG", Grade.PARTIAL,
         0.9999, "decode-undecodable"),
        ("crashed", walk(), DecodeReport(False, "crash"), "JPEG", Grade.PARTIAL, 0.9999,
         "decode-crash"),
        ("silent coding", walk(unproven="coding-silent"), FINE, "HEIF", Grade.UNPROVEN, 1.0,
         "coding-silent"),
        ("silent, witnessed", walk(unproven="coding-silent"), AGREES, "HEIF", Grade.WHOLE, 1.0,
         None),
        ("silent, broken", walk(unproven="coding-silent", **BROKEN), FINE, "HEIF", Grade.PARTIAL,
         0.9999, None),
        ("a scrap", walk(remnant=True), FINE, "JPEG", Grade.REMNANT, 1.0, None),
        ("a database", walk(), DecodeReport(True), "DATABASE", Grade.WHOLE, 1.0, None),
        ("raw", walk(), DecodeReport(True, width=9, height=9), "RAW", Grade.WHOLE, 1.0, None),
        ("unknown raw", walk(), DecodeReport(False, "unknown"), "RAW", Grade.UNPROVEN, 1.0, None),
        ("played", walk(), PLAYED, "CLIP", Grade.WHOLE, 1.0, None),
        ("not played", walk(), None, "CLIP", Grade.UNPROVEN, 1.0, None),
        ("damaged seconds", walk(), HURT, "CLIP", Grade.PARTIAL, 0.5, "frames-damaged"),
        ("silent clip", walk(unproven="coding-silent"), PLAYED, "CLIP", Grade.UNPROVEN, 1.0,
         "coding-silent"),
    )

    def test_a_broken_preview_takes_no_share_of_the_picture(self):
        for code, share in (("previews-broken", 0.9999), ("payload-foreign", 0.3)):
            failed = Check("previews", Outcome.FAIL, code, {"offset": 300}, content=True)
            walked = replace(walk(), checks=(failed,))
            walked = replace(walked, start=0, stop=1000)
            verdict = judge(walked, FINE, "JPEG")
            self.assertEqual((verdict.grade, verdict.share), (Grade.PARTIAL, share), code)

    def test_the_table(self):
        for name, walked, report, decoder, grade, share, code in self.table:
            with self.subTest(name):
                verdict = judge(walked, report, decoder)
                self.assertEqual((verdict.grade, verdict.share), (grade, share))
                against = [c.code for c in verdict.checks if c.outcome in AGAINST]
                self.assertEqual(against[:1], [code] if code else [])
                if grade is Grade.WHOLE:
                    self.assertTrue(any(c.content and c.outcome is Outcome.PASS
                                        for c in verdict.checks))

    def test_what_speaks_against_it_comes_first(self):
        fail = Check("a", Outcome.FAIL, "x")
        doubt = Check("b", Outcome.DOUBT, "y")
        verdict = judge(Walk(0, 10, True, None, 1.0, Facts(4, 3), checks=(PASS, doubt, fail)),
                        FINE, "JPEG")
        self.assertEqual([c.outcome for c in verdict.checks[:2]], [Outcome.FAIL, Outcome.DOUBT])


class SamplesTest(unittest.TestCase):
    """Foreign data inside what no decoder checks."""

    def check(self, form, data):
        walked = follow(MemorySource(data), 0, formats()[form], STOP)
        return walked.broken is not None or any(c.outcome in AGAINST for c in walked.checks)

    def makers(self):
        yield "bmp", contents.MAKERS["bmp"]
        yield "tiff", contents.MAKERS["tif"]
        yield "wav", contents.MAKERS["wav"]
        yield "wav", self.wave_of_24_bits

    @staticmethod
    def wave_of_24_bits(rng):
        time = np.arange(rng.randrange(20_000, 60_000)) / 22_050
        tone = (np.sin(time * 2000) * np.sin(time * 3) * 3_000_000).astype("<i4").tobytes()
        out = io.BytesIO()
        with wave.open(out, "wb") as sound:
            sound.setparams((1, 3, 22_050, 0, "NONE", ""))
            sound.writeframes(b"".join(tone[i : i + 3] for i in range(0, len(tone), 4)))
        return out.getvalue()

    def test_intact_ones_are_not_doubted(self):
        rng = random.Random(31)
        for form, make in self.makers():
            for _ in range(6):
                self.assertFalse(self.check(form, make(rng)), form)

    def test_coded_data_and_text_are_noticed_wherever_they_begin(self):
        rng = random.Random(32)
        donors = {"photo": contents.MAKERS["jpg"](rng) * 9,
                  "text": contents.MAKERS["txt"](rng) * 90}
        caught = missed = 0
        for form, make in self.makers():
            for name, donor in donors.items():
                for cluster in (4096, 16_384):
                    data = bytearray(make(rng))
                    at = rng.randrange(1, max(2, len(data) // cluster)) * cluster
                    length = min(rng.choice((cluster, len(data))), len(data) - at)
                    if length < 4096:
                        continue
                    data[at : at + length] = donor[:length]
                    hit = self.check(form, bytes(data))
                    caught, missed = caught + hit, missed + (not hit)
                    if form in ("bmp", "tiff"):
                        self.assertTrue(hit, f"{form}: {name} of {length} at {at}")
        self.assertGreater(caught, 4 * missed)

    def test_nearly_all_of_it_foreign(self):
        """As found on cards: of a BMP only the first cluster its own."""
        picture = saved(scene(40, 600, 400), "BMP")
        spoilt = picture[:4096] + noise(len(picture) - 4096, 9)
        self.assertTrue(self.check("bmp", spoilt))

    def test_rows_of_another_width(self):
        one = saved(scene(41, 640, 400), "BMP")
        other = saved(scene(42, 500, 500), "BMP")
        spoilt = one[: 64 * 4096] + other[8192 : 8192 + len(one) - 64 * 4096]
        self.assertTrue(self.check("bmp", spoilt[: len(one)].ljust(len(one), b"\0")))

    def test_a_gibibyte_that_is_claimed_is_not_read(self):
        class Counting(MemorySource):
            read = 0

            def read_into(self, offset, target):
                Counting.read += len(target)
                return super().read_into(offset, target)

        header = bytearray(saved(scene(43, 64, 48), "BMP")[:54])
        header[18:26] = struct.pack("<ii", 20_000, 1600)
        header[2:6] = struct.pack("<I", 54 + 20_000 * 1600 * 3)
        source = Counting(bytes(header) + noise(97 << 20, 3))
        follow(source, 0, formats()["bmp"], STOP)
        self.assertLess(Counting.read, 40 << 20)


class StreamEndTest(unittest.TestCase):
    def view(self, data):
        return View(MemorySource(data), 0, len(data))

    def test_where_a_stream_may_go_on(self):
        frame = b"\xff\xfb"
        for end, behind, cut in (
                (1000, frame + bytes(600), True),  # a frame is begun
                (1000, bytes(600), False),  # zeros, as drivers leave them
                (1000, b"another file's bytes" + bytes(600), True),
                (1024, bytes(600), True),  # exactly where a sector ends
                (1023, b"\xff" + bytes(600), True)):
            with self.subTest(end=end, behind=behind[:4]):
                data = noise(end) + behind
                self.assertIs(cut_at_sector(self.view(data), end, (frame,)), cut)

    def test_parts_as_long_as_sectors_say_nothing(self):
        self.assertFalse(cut_at_sector(self.view(noise(2048) + bytes(9)), 2048, (b"x",), even=True))

    def test_the_end_of_the_file_is_its_end(self):
        self.assertFalse(cut_at_sector(self.view(noise(1024)), 1024, (b"x",)))
        self.assertTrue(padded_with_zeros(self.view(noise(1000) + bytes(50)), 1000))
        self.assertFalse(padded_with_zeros(self.view(noise(1000) + b"x"), 1000))

    def test_bare_streams_cut_where_clusters_end(self):
        for name in ("mp3", "aac", "mpegts"):
            sample = min((s for s in of_format(name) if s.name in ("bare", "frames", "h264")),
                         key=lambda s: len(s.data))
            for cut in (8192, 16_384):
                if cut < len(sample.data) - 1024:
                    for behind in (noise(9000, cut), bytes(9000)):
                        source = MemorySource(sample.data[:cut] + behind)
                        walked = follow(source, 0, formats()[name], STOP)
                        doubted = walked.broken is not None or any(
                            c.outcome in AGAINST for c in walked.checks)
                        self.assertTrue(doubted, f"{name} cut at {cut}")

    def test_a_stream_whose_front_is_missing(self):
        """From a table within it on, it plays, and has no packet too few."""
        tried = missed = 0
        for sample in of_format("mpegts"):
            step, shift = (188, 0) if sample.data[188] == 0x47 else (192, 4)
            followed = follow(MemorySource(sample.data), 0, formats()["mpegts"], STOP)
            self.assertEqual((followed.unproven, followed.broken), ("", None), sample.name)
            for at in range(step, len(sample.data) - 64 * step, step):
                if sample.data[at + shift : at + shift + 3] in (b"\x47\x40\0", b"\x47\x40\x11"):
                    tail = follow(MemorySource(sample.data[at:]), 0, formats()["mpegts"], STOP)
                    if at > step:  # more than a table is missing
                        tried += 1
                        missed += tail.unproven != "numbers-go-on" and (
                            tail.variant.kind is not Kind.SCRAP)
        self.assertGreater(tried, 20)
        self.assertLess(missed / tried, 0.05)  # numbers have four bits: all may be 0 by chance

    def test_a_bare_stream_that_another_of_its_encoder_continues(self):
        """At the same places of both stand frames of one stream: no end and no length is wrong."""
        bare = {"id3v2_version": "0", "write_xing": "0"}
        one, two = (sounds.encode("mp3", "libmp3lame", n, seconds=3, options=bare) for n in (7, 8))
        broken = 0
        for cut in range(8192, len(one) - 4096, 4096):
            walked = follow(MemorySource(one[:cut] + two[cut:]), 0, formats()["mp3"], STOP)
            self.assertTrue(walked.unproven)
            if walked.broken is not None:
                broken += 1
                self.assertLess(abs(walked.broken.offset - cut), 1500)
                self.assertLess(walked.share, 1.0)
        self.assertGreater(broken, 1)
        self.assertTrue(follow(MemorySource(one), 0, formats()["mp3"], STOP).unproven)

    def test_the_sum_of_its_frames_proves_a_stream(self):
        summed = sounds.encode("mp3", "libmp3lame", 9)
        for data in (summed, sounds.tagged(summed)):
            walked = follow(MemorySource(data), 0, formats()["mp3"], STOP)
            self.assertEqual((walked.unproven, walked.broken), ("", None))
        at = len(summed) - 3000
        spoilt = summed[:at] + bytes([summed[at] ^ 4]) + summed[at + 1 :]
        walked = follow(MemorySource(spoilt), 0, formats()["mp3"], STOP)
        self.assertEqual([c.code for c in walked.checks if c.outcome in AGAINST], ["sum-differs"])

    def test_a_live_file_may_differ_from_its_encoder_s_sum_and_a_removed_one_not(self):
        summed = sounds.encode("mp3", "libmp3lame", 9)
        at = len(summed) - 3000
        spoilt = summed[:at] + bytes([summed[at] ^ 4]) + summed[at + 1 :]
        walked = follow(MemorySource(spoilt), 0, formats()["mp3"], STOP)
        thread = PiecedSource(MemorySource(spoilt), ((0, len(spoilt)),))
        report = DecodeReport(True, None, streams=(
            StreamReport("audio", 79, 79, 0, None, None, None, (), 2.0),))
        # Exact records only: one whose chain is doubtful says nothing of what is there.
        for removed, placed, grade in ((False, Placed.EXACT, Grade.WHOLE),
                                       (False, Placed.CHAIN, Grade.UNPROVEN),
                                       (True, Placed.EXACT, Grade.UNPROVEN)):
            entry = Entry("calls.mp3", len(spoilt), 0, removed, placed=placed,
                          extents=((0, len(spoilt)),))
            placing = Placing(Fate.THERE, Stretches(((0, len(spoilt)),)), formats()["mp3"],
                              walked)
            case = RecordCase(walked, "mp3", entry=entry, placing=placing, thread=thread,
                              exact=True)
            self.assertIs(find_from(case, report, "records", 512).grade, grade)

    def test_a_closing_tag_in_another_files_cluster(self):
        sound = next(s.data for s in of_format("mp3") if s.name == "bare")
        for tag, torn in ((b"TAG" + b"Reedmouth".ljust(90, b"\0") + b"2031" + bytes(31), False),
                          (b"TAG" + "Wehr Süd ".encode("latin-1").ljust(90) + b"    " + b"a" * 31,
                           False),
                          (b"TAG" + noise(125, 3), True), (b"TAG" + b"weir;3 otters\n" * 9, True),
                          (b"APETAGEX" + noise(200, 4), True)):
            for form, data in (("mp3", sound), ("flac", sounds.encode("flac", "flac", 7))):
                walked = follow(MemorySource(data + tag), 0, formats()[form], STOP)
                doubted = any(c.code == "end-cut" for c in walked.checks)
                self.assertEqual(doubted, torn, (form, tag[:20]))
                self.assertEqual(walked.stop, len(data) + (0 if torn else 128))


class SwallowedTest(unittest.TestCase):
    """A file behind the first piece of another: what goes on searching must come to it."""

    def test_nobody_claims_the_file_that_follows_its_first_piece(self):
        tried = 0
        for sample in samples():
            form = formats()[sample.format]
            for cut in range(4096, len(sample.data) - 2048, 8192):
                data = sample.data[:cut] + PHOTO + noise(len(sample.data), cut)
                try:
                    walked = follow(MemorySource(data), 0, form, STOP)
                except FormatError:
                    continue
                looked_into = any(a <= cut < b for a, b in walked.opaque)
                tried += 1
                with self.subTest(sample.variant, name=sample.name, cut=cut):
                    self.assertTrue(claimed_by(walked, 512) <= cut or looked_into,
                                    (claimed_by(walked, 512), walked.broken))
        self.assertGreater(tried, 250)


    def test_a_clip_cut_within_its_index_claims_no_more_than_agrees(self):
        clip = encode("avi", "mjpeg", "pcm_s16le", seed=53, frames=75)
        cut = -(-(clip.rindex(b"idx1") + 8) // 512) * 512
        self.assertGreater(len(clip) - cut, 1024)
        walked = follow(MemorySource(clip[:cut] + PHOTO + noise(9000, 1)), 0, formats()["avi"],
                        STOP)
        self.assertLessEqual(claimed_by(walked, 512), cut)


class FormatFaultsTest(unittest.TestCase):
    def walk(self, form, data):
        return follow(MemorySource(data), 0, formats()[form], STOP)

    def codes(self, walked):
        return {c.code for c in walked.checks if c.outcome in AGAINST}

    def test_a_document_without_its_pages(self):
        data = documents.document()
        self.assertEqual(self.codes(self.walk("pdf", data)), set())
        for old, new in ((b"/Root", b"/Ruut"), (b"/Pages", b"/Pagus")):
            spoilt = data.replace(old, new)
            self.assertNotEqual(spoilt, data)
            self.assertIn("root-missing", self.codes(self.walk("pdf", spoilt)))

    def test_heic_of_odd_sizes_and_crops(self):
        for width, height in ((321, 241), (333, 127), (64, 65)):
            data = saved(scene(50, width, height), "HEIF", quality=70)
            walked = self.walk("heif", data)
            self.assertEqual((walked.facts.width, walked.facts.height), (width, height))
            self.assertEqual(self.codes(walked), set())

    def test_text_items_of_heic_are_no_foreign_data(self):
        xmp = b"<x:xmpmeta xmlns:x='adobe:ns:meta/'>" + b"otters heading upstream " * 400
        data = saved(scene(51), "HEIF", quality=70, xmp=xmp + b"</x:xmpmeta>")
        self.assertEqual(self.codes(self.walk("heif", data)), set())

    def test_animated_webp_of_flat_frames(self):
        frames = [Image.new("RGB", (300, 200), (20 * i, 90, 40)) for i in range(6)]
        data = saved(frames[0], "WEBP", save_all=True, append_images=frames[1:], lossless=True)
        self.assertEqual(self.codes(self.walk("webp", data)), set())

    def test_clips_with_plain_sound_of_any_length(self):
        """Plain sound counts every few bytes as a sample; that must not be too many."""
        data = encode("mov", "mjpeg", "pcm_s16le", seed=52, frames=75)
        walked = self.walk("mp4", data)
        self.assertIsNone(walked.broken)
        self.assertEqual(walked.stop, len(data))
        spoilt = bytearray(data)
        at = data.rindex(b"stsz") + 8
        count = int.from_bytes(data[at + 4 : at + 8], "big")
        self.assertGreater(count, 1000)
        spoilt[at + 4 : at + 8] = (1 << 31).to_bytes(4, "big")
        self.assertIsNotNone(self.walk("mp4", bytes(spoilt)).broken)

    def test_what_stands_before_damage_under_one_checksum(self):
        clip = next(s.data for s in of_format("matroska") if s.name == "h264")
        for cut in (16_384, 61_440):
            data = clip[:cut] + noise(200_000, cut)
            walked = self.walk("matroska", data)
            self.assertGreaterEqual(walked.stop, min(cut, 20_000))
            self.assertLessEqual(walked.verified, cut)
            self.assertEqual([f.format for f in finds_on(MemorySource(data))], ["mkv"])
        tone = sounds.encode("ogg", "libopus", 12, rate=48_000)
        data = tone[:4096] + noise(60_000, 1)
        self.assertEqual([(f.format, f.grade.value) for f in finds_on(MemorySource(data))],
                         [("opus", "remnant")])

    def test_silent_codings_are_told(self):
        for form, name in (("webp", "lossy"), ("heif", "plain"), ("matroska", "vp9"),
                           ("amr", "narrow")):
            sample = next(s for s in of_format(form) if s.name == name)
            self.assertEqual(self.walk(form, sample.data).unproven, "coding-silent", form)
        for form in ("jpeg", "png", "flac", "gif"):
            for sample in of_format(form):
                self.assertEqual(self.walk(form, sample.data).unproven, "", form)


class BorneOutTest(unittest.TestCase):
    """Heads alone are nothing; what is claimed never sums up to more than there is."""

    def finds(self, data):
        return finds_on(MemorySource(data))

    def test_made_up_box_heads(self):
        head = struct.pack(">I4s4sI4s", 20, b"ftyp", b"isom", 0, b"isom")
        head += struct.pack(">I4s", 0x7FFF_FFF0, b"mdat")
        block = (head + noise(512 - len(head), 1))[:512]
        data = block * 1024
        found = self.finds(data)
        self.assertLessEqual(sum(f.size for f in found), len(data))
        self.assertTrue(all(f.share > 0 for f in found))
        self.assertLess(len(found), 100)

    def test_a_head_before_other_files_claims_none_of_them(self):
        picture = saved(scene(60), "JPEG", quality=85)
        head = struct.pack(">I4s4sI4s", 20, b"ftyp", b"isom", 0, b"isom")
        head += struct.pack(">I4s", 1 << 30, b"mdat") + noise(9000, 2)
        data = medium([(0, head), (12_288, picture), (204_800, noise(4096))], 1 << 20)
        found = self.finds(data)
        photo = next(f for f in found if f.format == "jpeg")
        self.assertIs(photo.grade, Grade.WHOLE)
        for other in found:
            if other is not photo:
                self.assertLessEqual(other.start + other.size, photo.start)

    def test_a_broken_database_reaches_no_farther_than_its_pages(self):
        data = documents.database()
        spoilt = data[:4096] + noise(2048, 4) + bytes(1 << 20)
        for find in self.finds(spoilt):
            self.assertLess(find.size, 100_000)

    def test_overlapping_broken_png_heads_take_time_by_their_bytes(self):
        head = saved(scene(61, 64, 48), "PNG")[:33]
        chunk = struct.pack(">I4s", 0x7000_0000, b"IDAT")
        block = (head + chunk).ljust(512, b"\x41")
        read = 0

        class Counting(MemorySource):
            def read_into(self, offset, target):
                nonlocal read
                read += len(target)
                return super().read_into(offset, target)

        for count in (256, 512):
            read = 0
            finds_on(Counting(block * count))
            per_byte = read / (512 * count)
            self.assertLess(per_byte, 700, "the more heads, the more each costs")

    def test_nothing_of_use_is_no_find(self):
        data = struct.pack(">I4s4sI4s", 20, b"ftyp", b"isom", 0, b"isom") + bytes(LEAST_BYTES)
        with self.assertRaises(FormatError):
            follow(MemorySource(data), 0, formats()["mp4"], STOP)

    def test_the_proof_check_is_named_as_such(self):
        self.assertEqual(PROOF, "proof")
