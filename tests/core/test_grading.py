"""Grades follow from checks, and only from checks."""

import dataclasses
import io
import threading
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.checks.decoding import DecodeReport, DecodeRequest, DecoderPool
from needlewright.core.checks.grading import Grade, judge
from needlewright.core.errors import JobError
from needlewright.core.formats.registry import formats, register
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.search.engine import search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.core.sources.media import disks_under, shares_medium
from needlewright.core.sources.memory import MemorySource
from needlewright.core.walks import Break, Check, Facts, Outcome, Walk
from tests.support import FolderTest, jpeg, noise, scene

SOUND = Walk(0, 1000, True, None, 1.0, Facts(400, 300), preview=(10, 90), checks=(
    Check("structure", Outcome.PASS, "structure-ok"),
    Check("coded data", Outcome.PASS, "coded-complete", content=True)))
AGREES = DecodeReport(True, None, "", 400, 300, b"", "compared", (4.0,) * 30, 0.98)


class JudgeTest(unittest.TestCase):
    def test_whole_only_when_everything_passes(self):
        self.assertIs(judge(SOUND, AGREES, "JPEG").grade, Grade.WHOLE)
        doubts = {
            "decoder fails": (SOUND, dataclasses.replace(AGREES, ok=False, error="crash")),
            "not decoded": (SOUND, None),
            "other size": (SOUND, dataclasses.replace(AGREES, width=399)),
            "preview broken": (SOUND, dataclasses.replace(AGREES, preview="undecodable")),
            "another picture": (SOUND, dataclasses.replace(
                AGREES, rows=(60.0,) * 30, correlation=0.1)),
            "failed check": (dataclasses.replace(SOUND, checks=(
                *SOUND.checks, Check("x", Outcome.DOUBT, "end-missing"))), AGREES)}
        for name, (walk, report) in doubts.items():
            with self.subTest(name):
                verdict = judge(walk, report, "JPEG")
                failed = verdict.checks[0].outcome is Outcome.FAIL
                self.assertIs(verdict.grade, Grade.PARTIAL if failed else Grade.UNPROVEN)
                self.assertEqual(verdict.share, 0.9999 if failed else 1.0)
                self.assertIn(verdict.checks[0].outcome, (
                    Outcome.FAIL, Outcome.DOUBT, Outcome.PASS, Outcome.NOT_MADE))

    def test_a_thumbnail_that_agrees_only_above_a_row_finds_the_damage(self):
        rows = (4.0,) * 20 + (50.0,) * 10
        verdict = judge(SOUND, dataclasses.replace(AGREES, rows=rows, correlation=0.8), "JPEG")
        self.assertEqual((verdict.grade, verdict.damage_row), (Grade.PARTIAL, 200))
        self.assertAlmostEqual(verdict.share, 2 / 3, 2)
        suspect = Break(500, "rows-jump", 500, 208)
        placed = judge(dataclasses.replace(SOUND, suspect=suspect),
                       dataclasses.replace(AGREES, rows=rows, correlation=0.8), "JPEG")
        self.assertEqual(placed.damage_row, 208)

    def test_an_editor_s_mark_excuses_another_picture_but_no_seam(self):
        edited = dataclasses.replace(SOUND, edited=True)
        other = dataclasses.replace(AGREES, rows=(60.0,) * 30, correlation=0.1)
        self.assertIs(judge(SOUND, other, "JPEG").grade, Grade.UNPROVEN)
        self.assertIs(judge(edited, other, "JPEG").grade, Grade.WHOLE)
        seam = dataclasses.replace(AGREES, rows=(4.0,) * 20 + (50.0,) * 10, correlation=0.8)
        self.assertIs(judge(edited, seam, "JPEG").grade, Grade.PARTIAL)

    def test_a_suspicion_alone_convicts_nobody(self):
        walk = dataclasses.replace(SOUND, suspect=Break(500, "rows-jump", 500, 208))
        self.assertIs(judge(walk, AGREES, "JPEG").grade, Grade.WHOLE)
        bare = dataclasses.replace(walk, preview=None)
        alone = judge(bare, dataclasses.replace(AGREES, preview=None), "JPEG")
        self.assertIs(alone.grade, Grade.WHOLE)

    @given(st.floats(0, 0.999))
    def test_what_is_broken_is_never_whole(self, share):
        walk = dataclasses.replace(SOUND, share=share, broken=Break(9, "dc-range", 9, 5))
        grade = judge(walk, AGREES, "JPEG").grade
        self.assertIs(grade, Grade.REMNANT if share < 0.02 else Grade.PARTIAL)


class ThumbnailTest(unittest.TestCase):
    def test_pictures_are_shown_upright(self):
        """As Pillow turns them, for every orientation of the EXIF standard."""
        picture = scene(4, 400, 200)
        pool: DecoderPool[int] = DecoderPool(1)
        self.addCleanup(pool.close)
        for turn in range(1, 9):
            exif = Image.Exif()
            exif[0x0112] = turn
            data = jpeg(picture, exif=exif)
            pool.submit(turn, DecodeRequest(MemorySource(data), [(0, len(data))], "JPEG", 80_000))
        found: dict[int, DecodeReport] = {}
        while pool.pending:
            found.update(pool.results(1.0))
        for turn, report in found.items():
            shown = Image.open(io.BytesIO(report.thumbnail))
            self.assertEqual(shown.width > shown.height, turn < 5, turn)
            self.assertEqual((report.width, report.height), (400, 200))


class RegistryTest(unittest.TestCase):
    def test_names_are_unique_and_sorted(self):
        self.assertEqual(list(formats()), sorted(formats()))
        with self.assertRaises(ValueError):
            register(formats()["jpeg"])
        with self.assertRaises(TypeError):
            formats()["gif"] = formats()["png"]  # type: ignore[index]
        self.assertIn("signatures", steps())

    def test_unknown_steps_find_nothing(self):
        events = search(MemorySource(noise(5000)), Plan(("kept-copies",)), threading.Event())
        self.assertEqual(list(events), [])


class MediaTest(FolderTest):
    def test_an_image_file_shares_no_medium(self):
        image = self.image(noise(600))
        self.assertFalse(shares_medium(str(image), self.folder))
        self.assertFalse(shares_medium(str(self.folder / "none"), self.folder))
        self.assertEqual(disks_under(image), disks_under(self.folder / "not" / "there" / "yet"))

    def test_a_job_on_the_source_is_refused_before_anything_is_made(self):
        with mock.patch("needlewright.core.jobs.opening.shares_medium", return_value=True), (
                self.assertRaises(JobError)) as caught:
            job_for_image(self.folder / "job", self.image(noise(600)))
        self.assertEqual(caught.exception.code, "job-on-source")
        self.assertFalse((self.folder / "job").exists())
