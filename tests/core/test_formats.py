"""Every format on files from real encoders: true ends, honest grades, only our own errors."""

from __future__ import annotations

import dataclasses
import random
import unittest

from needlewright.core.checks.grading import AGAINST, PROOF, Grade
from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.search.plan import Plan
from needlewright.core.sources.memory import MemorySource
from needlewright.core.walks import Outcome
from tests.fuzz import mutations, walk_all
from tests.media import clips, pictures, samples, sounds
from tests.support import CLUSTER, FolderTest, finds_on, medium, noise

#: Codings that show nothing of foreign data: complete, and told to be unproven.
SILENT = {("amr", "narrow"), ("mp3", "bare"), ("avif", "plain"), ("heic", "plain"), ("webm", "vp9"),
          *(("webp", name) for name in ("lossy", "lossless", "alpha", "animated")),
          # Plain samples, which other ones of their kind continue, and HEVC, which decodes much.
          ("aiff", "16-bit"), ("wav", "16-bit"), ("wav", "long"), ("bmp", "plain"),
          ("bmp", "palette"), ("psd", "raw"), ("mp4", "hevc"), ("cr2", "marked"), ("dng", "plain"),
          ("nef", "coded"), ("rw2", "marked"),
          *(("tiff", name) for name in ("raw", "pages", "large-offsets"))}
UNREADABLE = {"cr3"}  # made-up raw data that no decoder knows
BEHIND = {"noise": noise(70_000), "blank": bytes(70_000), "ones": b"\xff" * 70_000,
          "text": b"05:58;Reedmouth weir;3;mist\n" * 2500}
# Streams without a length: cut between two frames, nothing shows that more was to come.
ENDLESS = {"mp3", "aac", "ts", "m2ts", "mpg", "amr"}
APPENDED = {"appended-preview", "motion"}  # cut behind the picture's own end, it is whole still
# Decoders of these hide errors, and their coded data carries nothing to check.
TOLERANT = {"webp", "avif", "heic", "webm", "bmp", "wav", "aiff", "mp4"}


class WalkTest(unittest.TestCase):
    def test_the_true_end_whatever_lies_behind(self):
        for sample in samples():
            form = formats()[sample.format]
            self.assertTrue(form.accept(sample.data[:64]), sample.name)
            for name, behind in BEHIND.items():
                with self.subTest(sample.variant, name=sample.name, behind=name):
                    source = MemorySource(sample.data + behind)
                    walk = form.walk(source, 0, source.size)
                    self.assertEqual(walk.stop, len(sample.data))
                    self.assertIsNone(walk.broken)
                    self.assertTrue(walk.ended)
                    self.assertEqual((walk.variant or form.plain).name, sample.variant)
                    against = [c for c in walk.checks
                               if c.outcome in (Outcome.FAIL, Outcome.DOUBT)]
                    if sample.variant in ENDLESS and behind.strip(b"\0"):
                        # Behind a file's own end drivers leave zeros; what else may be its rest.
                        against = [c for c in against if c.code != "end-cut"]
                    self.assertEqual(against, [])

    def test_where_a_file_begins_changes_nothing(self):
        for sample in samples():
            form = formats()[sample.format]
            for start in (512, 4096 * 5):
                source = MemorySource(noise(start) + sample.data + noise(3000))
                walk = form.walk(source, start, source.size)
                self.assertEqual((walk.start, walk.stop, walk.broken),
                                 (start, start + len(sample.data), None), sample.name)

    def test_cut_off_anywhere_it_never_reaches_further(self):
        for sample in samples():
            form = formats()[sample.format]
            for part in (0.05, 0.3, 0.7, 0.98):
                cut = int(len(sample.data) * part)
                source = MemorySource(sample.data[:cut])
                try:
                    walk = form.walk(source, 0, source.size)
                except FormatError:
                    continue
                self.assertLessEqual(walk.stop, cut, sample.name)
                self.assertLessEqual(walk.share, 1.0)
                if sample.variant not in ENDLESS and sample.name not in APPENDED:
                    self.assertIsNotNone(walk.broken, (sample.variant, sample.name, cut))

    def test_facts(self):
        said = {}
        for sample in samples():
            form = formats()[sample.format]
            source = MemorySource(sample.data)
            said.setdefault(sample.variant, form.walk(source, 0, source.size).facts)
        self.assertEqual((said["mp4"].width, said["mp4"].height), (320, 240))
        self.assertEqual(said["heic"].taken, "2031-05-12T05:58:12")
        self.assertEqual(said["dng"].camera, "Brackenfield TC-4")
        self.assertEqual(said["cr3"].camera, "Brackenfield TC-4")
        for name in ("mp4", "mov", "avi", "mkv", "webm", "flv", "wav", "mp3", "flac", "opus",
                     "amr", "aiff", "m4a", "3gp", "wmv"):
            self.assertTrue(0.7 < said[name].duration_s < 2.3, (name, said[name].duration_s))

    def test_a_makers_own_box_belongs_to_a_clip_and_slack_does_not(self):
        data = clips.encode("mp4", audio=None, seed=161, frames=12)
        own = (28).to_bytes(4, "big") + b"DvTg" + b"Brackenfield TC-4   "
        for behind, more in ((own, len(own)), (b"05:58;Reedmouth weir", 0), (bytes(64), 0)):
            block = data + behind
            block += bytes(-len(block) % 512) + noise(4096)
            source = MemorySource(block)
            walk = formats()["mp4"].walk(source, 0, source.size)
            self.assertEqual((walk.stop, walk.broken), (len(data) + more, None), behind)

    def test_the_damaged_sample_of_a_clip_is_named(self):
        data = clips.encode("mp4", audio=None, seed=160, frames=40)
        whole = formats()["mp4"].walk(MemorySource(data), 0, len(data))
        self.assertIsNone(whole.broken)
        track = _first_track(data)
        victim = 23
        at = int(track.offsets[victim])
        hurt = data[:at] + noise(64) + data[at + 64 :]
        walk = formats()["mp4"].walk(MemorySource(hurt), 0, len(hurt))
        self.assertEqual((walk.broken.offset, walk.broken.values["sample"]), (at, victim))
        self.assertEqual(walk.stop, len(data), "its end is still its own")


def _first_track(data: bytes):
    from needlewright.core.structures.bmff import top_level
    from needlewright.core.structures.bmff_samples import read_tracks
    from needlewright.core.structures.view import View

    view = View(MemorySource(data), 0, len(data))
    moov = next(b for b in top_level(view, 0) if b.name == b"moov")
    return read_tracks(view, moov, 0)[0]


class SearchAllTest(FolderTest):
    """All formats on one medium, through the search and the isolated decoders."""

    def test_everything_comes_back_at_sectors_and_at_every_byte(self):
        rng, at, laid = random.Random(5), CLUSTER, []
        for sample in samples():
            laid.append((at, sample))
            at += (len(sample.data) // CLUSTER + rng.randint(1, 3)) * CLUSTER
        image = bytearray(medium([(a, s.data) for a, s in laid], at + CLUSTER))
        image[:CLUSTER] = noise(CLUSTER)
        source = self.open_image(bytes(image))
        for every_byte in (False, True):
            found = {f.start: f for f in finds_on(source, Plan(every_byte=every_byte))}
            for start, sample in laid:
                with self.subTest(sample.variant, name=sample.name, every_byte=every_byte):
                    find = found.pop(start)
                    self.assertEqual((find.size, find.format), (len(sample.data), sample.variant))
                    if sample.variant not in UNREADABLE:
                        doubts = {c.name for c in find.checks if c.outcome in AGAINST}
                        silent = (sample.variant, sample.name) in SILENT
                        self.assertEqual(doubts, {PROOF} if silent else set(), find.checks)
                        self.assertIs(find.grade, Grade.UNPROVEN if silent else Grade.WHOLE)
                        self.assertEqual(find.share, 1.0)
            self.assertTrue(all(f.grade is Grade.REMNANT for f in found.values()), found)

    def test_files_off_the_sectors_need_every_byte(self):
        data = pictures.camera(170)
        source = self.open_image(noise(1000) + data + noise(5000))
        self.assertEqual(finds_on(source), [])
        found = finds_on(source, Plan(every_byte=True))
        self.assertEqual([(f.start, f.size) for f in found], [(1000, len(data))])

    def test_chosen_formats_only(self):
        photo, tone = pictures.camera(171), sounds.encode("flac", "flac", 172)
        source = self.open_image(medium([(0, photo), (1 << 20, tone)], 2 << 20))
        found = finds_on(source, Plan(formats=frozenset({"flac"})))
        self.assertEqual([f.format for f in found], ["flac"])

    def test_what_only_a_decoder_notices_gives_its_bytes_back(self):
        clip = clips.encode("mp4", audio=None, seed=173, frames=30, size=(1280, 720),
                            coder={"qp": "18", "g": "10", "preset": "medium"})
        inside = pictures.saved(pictures.scene(174, 96, 64), "PNG")
        track = _first_track(clip)
        size = int(track.sizes[0])
        at = (int(track.offsets[0]) + size // 3) // CLUSTER * CLUSTER + CLUSTER
        self.assertLess(at + len(inside), int(track.offsets[0]) + size, "inside one sample")
        hurt = clip[:at] + inside + clip[at + len(inside) :]
        found = finds_on(self.open_image(hurt + bytes(9000)))
        self.assertEqual([(f.start, f.format, f.grade) for f in found],
                         [(0, "mp4", Grade.PARTIAL), (at, "png", Grade.WHOLE)])
        self.assertEqual(found[1].inside, "mp4:0")
        frames = next(c for c in found[0].checks if c.name == "every frame")
        self.assertIs(frames.outcome, Outcome.FAIL)
        self.assertEqual(frames.values["sample"], 0)

    def test_damage_is_never_whole_where_anything_shows_it(self):
        rng, at, laid = random.Random(8), 0, []
        for sample in samples():
            clusters = len(sample.data) // CLUSTER
            if clusters < 3 or sample.variant in TOLERANT | ENDLESS | UNREADABLE:
                continue
            place = rng.randrange(1, clusters - 1) * CLUSTER
            hurt = sample.data[:place] + noise(CLUSTER, at) + sample.data[place + CLUSTER :]
            laid.append((at, dataclasses.replace(sample, data=hurt)))
            at += (len(hurt) // CLUSTER + 2) * CLUSTER
        source = self.open_image(medium([(a, s.data) for a, s in laid], at + CLUSTER))
        found = {f.start: f for f in finds_on(source)}
        for start, sample in laid:
            if start in found:
                self.assertIsNot(found[start].grade, Grade.WHOLE, (sample.variant, sample.name))


class FuzzTest(unittest.TestCase):
    """A slice of what `make fuzz` does; every failure found there becomes a test of its own."""

    def test_two_hundred_mutations_of_each_format(self):
        for name in formats():
            with self.subTest(name):
                for data in mutations(name, 200):
                    walk_all(name, data)


if __name__ == "__main__":
    unittest.main()
