"""The signature step end to end: right files, right grades, honest events."""

import os
import threading
import unittest

from PIL import Image

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import SourceError
from needlewright.core.search import step_signatures
from needlewright.core.search.engine import search
from needlewright.core.search.events import Ending, Finished, Found, Note, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Span
from needlewright.core.walks import Kind, Outcome
from tests.media import samples
from tests.support import (
    CLUSTER,
    FolderTest,
    camera_jpeg,
    finds_on,
    jpeg,
    medium,
    noise,
    png,
    scene,
    splice,
)

PHOTO, OTHER = camera_jpeg(1), camera_jpeg(2, progressive=True)
CHART = png()
LAID = [(CLUSTER * 3, PHOTO), (CLUSTER * 200 + 512, CHART), (CLUSTER * 300, OTHER)]
CARD = medium([(0, noise(CLUSTER * 2)), *LAID], 2_000_000)


class Failing(MemorySource):
    """A medium with an unreadable range."""

    bad = Span(0, 0)

    def read_into(self, offset, target):
        if offset < self.bad.stop and offset + len(target) > self.bad.start:
            raise SourceError("source-range", path="card", start=offset,
                              stop=offset + len(target), reason="Input/output error")
        return super().read_into(offset, target)


class SearchTest(FolderTest):
    def test_finds_every_file_byte_for_byte(self):
        for source in (self.open_image(CARD), MemorySource(CARD)):
            found = finds_on(source)
            self.assertEqual([(f.start, f.size) for f in found],
                             [(at, len(data)) for at, data in LAID])
            self.assertEqual({f.grade for f in found}, {Grade.WHOLE})
            self.assertTrue(all(f.thumbnail.startswith(b"\xff\xd8") for f in found))
            self.assertEqual(found[0].facts.camera, "Brackenfield TC-4")

    def test_block_size_never_changes_what_is_found(self):
        want = [(f.start, f.size, f.grade) for f in finds_on(MemorySource(CARD))]
        kept = step_signatures.BLOCK_BYTES
        self.addCleanup(setattr, step_signatures, "BLOCK_BYTES", kept)
        for size in (512, 1536, 65_536, 1 << 22):
            step_signatures.BLOCK_BYTES = size
            self.assertEqual([(f.start, f.size, f.grade) for f in finds_on(MemorySource(CARD))],
                             want)

    def test_an_overwritten_photo_is_partial_and_what_overwrote_it_is_found(self):
        at = len(PHOTO) // 2 // CLUSTER * CLUSTER
        small = png(scene(3, 60, 40))
        found = finds_on(MemorySource(medium([(0, splice(PHOTO, at, small))], 400_000)))
        self.assertEqual(found[0].grade, Grade.PARTIAL)
        self.assertTrue(0.1 < found[0].share < 0.95)
        inside = next(f for f in found if f.format == "png")
        self.assertEqual((inside.start, inside.size, inside.grade), (at, len(small), Grade.WHOLE))
        preview = next(f for f in found if f.grade is Grade.REMNANT)
        self.assertEqual(preview.inside, "jpeg:0")
        self.assertEqual(preview.start, PHOTO.index(b"\xff\xd8", 9))
        failed = [c.name for c in found[0].checks if c.outcome is Outcome.FAIL]
        self.assertIn("coded data", failed)

    def test_a_header_with_nothing_behind_it_is_a_remnant(self):
        start, stop = PHOTO.index(b"\xff\xd8", 10), PHOTO.index(b"\xff\xd9") + 2
        self.assertLess(start, stop)
        head = (stop // 512 + 2) * 512
        found = finds_on(MemorySource(medium([(0, PHOTO[:head])], 300_000)))
        self.assertEqual([f.grade for f in found], [Grade.REMNANT])

    def test_the_thumbnail_is_a_witness(self):
        """A picture exchanged under another's thumbnail is complete, but doubted."""
        start, stop = PHOTO.index(b"\xff\xd8", 10), PHOTO.index(b"\xff\xd9") + 2
        other = Image.new("RGB", (160, 120), (200, 30, 30))
        other.paste((10, 200, 60), (0, 0, 70, 120))
        thumb = jpeg(other, quality=70)
        swapped = PHOTO[:start] + thumb.ljust(stop - start, b"\0") + PHOTO[stop:]
        found = finds_on(MemorySource(medium([(0, swapped)], 300_000)))
        self.assertEqual((found[0].grade, found[0].size), (Grade.UNPROVEN, len(PHOTO)))
        names = [c.name for c in found[0].checks if c.outcome is not Outcome.PASS]
        self.assertEqual(names[0], "own thumbnail")

    def test_a_header_overwritten_where_lengths_step_over_it_is_no_whole_file(self):
        start = PHOTO.index(b"\xff\xd8", 10)
        stop = PHOTO.index(b"\xff\xd9") + 2
        for at in (start, start + 700, stop - 500):
            for foreign in (noise(400), bytes(400), b"05:58;Reedmouth weir;3;mist\n" * 14):
                spoiled = splice(PHOTO, at, foreign)
                found = finds_on(MemorySource(medium([(0, spoiled)], 400_000)))
                self.assertIsNot(found[0].grade, Grade.WHOLE)
                self.assertEqual(found[0].size, len(PHOTO))

    def test_nothing_is_found_in_nothing(self):
        for data in (b"\xff", bytes(100_000), b"\xff" * 100_000, noise(3_000_000),
                     b"text\n" * 9999):
            self.assertEqual(finds_on(MemorySource(data)), [])

    def test_a_medium_that_goes_away_ends_the_search_but_keeps_what_came(self):
        source = self.open_image(medium([(0, PHOTO)], 30 << 20))
        found = []
        with self.assertRaises(SourceError) as caught:
            for event in search(source, Plan(), threading.Event()):
                found += [event.find] if isinstance(event, Found) else []
                if isinstance(event, Progress) and event.done > 1 << 20:
                    os.truncate(source.path, 2 << 20)
        self.assertEqual(caught.exception.code, "source-shrank")
        self.assertEqual([f.size for f in found], [len(PHOTO)])

    def test_area_and_kinds(self):
        source = MemorySource(CARD)
        part = Plan(area=Span(CLUSTER * 100, CLUSTER * 250))
        self.assertEqual([f.start for f in finds_on(source, part)], [LAID[1][0]])
        self.assertEqual(finds_on(source, Plan(kinds=frozenset({Kind.AUDIO}))), [])
        with self.assertRaises(SourceError):
            finds_on(source, Plan(area=Span(10**9, 10**9 + 5)))

    def test_unreadable_ranges_are_noted_and_passed_over(self):
        source = Failing(medium([(at + (1 << 21), d) for at, d in LAID], 5_000_000))
        source.bad = Span(1 << 20, (1 << 20) + 512)
        events = list(search(source, Plan(), threading.Event()))
        self.assertEqual(sum(isinstance(e, Found) for e in events), 3)
        notes = [e for e in events if isinstance(e, Note)]
        self.assertEqual(notes[0].code, "range-unreadable")
        self.assertEqual([(n.values["start"], n.values["stop"]) for n in notes],
                         [(1 << 20, (1 << 20) + 4096)], "no more is lost than cannot be read")

    def test_a_photo_that_cannot_be_read_to_its_end_is_there_in_part(self):
        source = Failing(medium(LAID, 2_000_000))
        place, data = LAID[0]
        source.bad = Span(place + 2 * len(data) // 3, place + 2 * len(data) // 3 + 512)
        found = [f for f in finds_on(source) if f.inside is None]
        self.assertEqual([f.grade for f in found], [Grade.PARTIAL, Grade.WHOLE, Grade.WHOLE])
        self.assertTrue(0.2 < found[0].share < 0.8)
        self.assertEqual(found[0].size, len(data))
        lost = next(c for c in found[0].checks if c.name == "source")
        self.assertEqual((lost.outcome, lost.code, lost.values["bytes"]),
                         (Outcome.FAIL, "sectors-lost", CLUSTER))

    def test_an_unreadable_cluster_in_any_file_is_its_own_failed_check_and_no_more(self):
        """In spans that nothing can judge as well, which are read for the first time there."""
        class Holed(MemorySource):
            bad: set[int] = set()

            def read_into(self, offset, target):
                for block in range(offset // 4096, -(-(offset + len(target)) // 4096)):
                    if block in self.bad:
                        raise SourceError("source-range", path="card", start=offset,
                                          stop=offset + len(target), reason="Input/output error")
                return super().read_into(offset, target)

        laid, at = [], 4096
        for sample in samples():
            if len(sample.data) > 20_000:
                laid.append((at, sample))
                at += -(-len(sample.data) // 4096) * 4096 + 8192
        source = Holed(medium([(place, s.data) for place, s in laid], at))
        source.bad = {(place + len(s.data) * 2 // 3) // 4096 for place, s in laid}
        found = {find.start: find for find in finds_on(source)}
        self.assertGreater(len(found.keys() & dict(laid)), len(laid) - 4)
        complete = 0
        for place, sample in laid:
            if place in found:
                find = found[place]
                with self.subTest(sample.format, name=sample.name):
                    self.assertIn(find.grade, (Grade.PARTIAL, Grade.REMNANT))
                    self.assertTrue(any(c.outcome is Outcome.FAIL for c in find.checks))
                complete += find.size == len(sample.data)
        self.assertGreater(complete, len(laid) // 2, "what stands behind it is the file's own")

    def test_stopped_and_continued_it_finds_the_same(self):
        source = MemorySource(medium([(i * 300_032, PHOTO) for i in range(40)], 12_600_000))
        for after in (0, 1, 7):
            stop, first, last = threading.Event(), [], None
            for event in search(source, Plan(), stop):
                if isinstance(event, Found):
                    first.append(event.find.start)
                if len(first) >= after:
                    stop.set()
                last = event
            self.assertIsInstance(last, Finished)
            self.assertEqual(last.ending, Ending.STOPPED)
            rest = finds_on(source, Plan(resume={"signatures": last.checkpoint}))
            together = {*first, *(f.start for f in rest)}
            self.assertEqual(together, {i * 300_032 for i in range(40)})

    def test_progress_is_in_bytes_and_ends_at_the_end(self):
        events = list(search(MemorySource(bytes(20 << 20)), Plan(), threading.Event()))
        progress = [e for e in events if isinstance(e, Progress)]
        self.assertEqual([p.done for p in progress], sorted(p.done for p in progress))
        self.assertEqual(progress[-1].done, 20 << 20)
        self.assertEqual(events[-1], Finished("signatures", Ending.DONE, 20 << 20))


if __name__ == "__main__":
    unittest.main()
