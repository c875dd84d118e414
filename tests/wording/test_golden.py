"""What a specialist reads, read aloud: grades, checks, errors and reports as golden sentences."""

from __future__ import annotations

import re
import unittest

from needlewright.core.delivery.bag import Delivered, Handed
from needlewright.core.errors import JobError, SourceError
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.walks import Check, Outcome
from needlewright.wording import activity, checks, errors, finds, guards, report, units, volumes
from needlewright.wording import cli as cli_words
from needlewright.wording import window as window_words

PASS, DOUBT, FAIL, MADE = Outcome.PASS, Outcome.DOUBT, Outcome.FAIL, Outcome.NOT_MADE


def row(number=1, grade="whole", share=1.0, name="BF_0201.JPG", kind="photo", removed=True,
        size=5_800_000, path="DCIM/BF_0201.JPG", taken="2031-05-12T05:58:12"):
    return FindRow(number, 1, kind, "jpeg", "jpg", 4096, size, grade, share, name, path, removed,
                   640, 480, taken, None, 1, None, ("records",), True, False)


REASONS = (
    ("clusters-reused", {"bytes": 8192, "share": 0.25},
     "8.2 kB of it belong to other files now (25 %)"),
    ("length-padded", {"bytes": 512}, "512 bytes of zeros follow its own end"),
    ("length-more", {"bytes": 3_000_000}, "the record states 3.0 MB more than its own end"),
    ("size-wrong", {"bytes": 1 << 57}, "its record states 144115 TB, which is not plausible"),
    ("sectors-lost", {"bytes": 1024, "share": 0.004},
     "1.0 kB of it could not be read from the medium (under 1 %)"),
    ("unreadable-from", {"offset": 65_536},
     "the medium cannot be read from 65.5 kB into the file on"),
    ("file-inside", {"offset": 4096}, "another file begins 4.1 kB into it"),
    ("structure-ok", {"parts": 7}, "7 parts, all in order"),
    ("structure-broken", {"why": "no-chunk", "offset": 33},
     "no chunk where one must be, 33 bytes into the file"),
    ("structure-broken", {"why": "item-outside", "number": 1204, "offset": 33},
     "item 1,204 lies outside the data, 33 bytes into the file"),
    ("structure-broken", {"text": "as an earlier version told it", "offset": 33},
     "as an earlier version told it, 33 bytes into the file"),
    ("samples-foreign", {"offset": 12_288, "row": 4},
     "samples stop continuing each other, 12.3 kB into the file"),
    ("payload-foreign", {"offset": 900}, "foreign data stands in it, 900 bytes into the file"),
    ("dimensions-plausible", {"width": 3264, "height": 2448}, "3,264 × 2,448 pixels"),
    ("dimensions-implausible", {"width": 9, "height": 1 << 30},
     "9 × 1,073,741,824 pixels is not plausible"),
    ("decode-undecodable", {"text": "broken data stream"},
     "another decoder fails: broken data stream"),
    ("decode-undecodable", {"text": "no-pictures"}, "another decoder fails: it has no pictures"),
    ("decode-undecodable", {"text": ""}, "another decoder fails"),
    ("decode-crash", {"text": ""}, "the decoder crashed on this file"),
    ("database-sound", {}, "the database passes its own check"),
    ("thumbnail-differs-below", {"row": 1200, "rows": 2448},
     "differs from the picture from row 1,200 of 2,448 on"),
    ("coding-silent", {}, "complete, but this coding does not show whether all of it is its own"),
    ("content-by-record", {},
     "the file system states exactly where it lies, and no other file was there"),
    ("end-cut", {}, "it ends where a cluster may end, in the middle of what comes next"),
    ("root-missing", {}, "the catalogue or the list of pages is not here"),
    ("record-reused", {}, "its record serves another file now; perhaps it was only renamed"),
    ("name-likely", {"bytes": 5},
     "likely: a leftover name states exactly this size, and no other find has it"),
    ("gone-overwritten", {"bytes": 5}, "other files use its clusters now"),
    ("frames-decode", {"frames": 240}, "all 240 frames of pictures and sound decode"),
    ("packets-missing", {"jumps": 3}, "packets are missing in 3 places"),
    ("index-missing", {}, "its index is missing"),
)
GRADES = (
    ("whole", 1.0, [Check("a", PASS, "x")] * 6, "photo", "whole: all six checks pass"),
    ("whole", 1.0, [], "photo", "whole; its checks cannot be read"),
    ("partial", 0.553, [Check("coded data", FAIL, "x")], "photo", "partial: 55 % of its area"),
    ("partial", 0.5, [Check("every frame", FAIL, "x")], "video", "partial: 50 % of its play time"),
    ("partial", 0.5, [Check("structure", FAIL, "x")], "document", "partial: 50 % of its bytes"),
    ("unproven", 1.0, [Check("proof", DOUBT, "coding-silent")], "photo",
     "unproven: complete, but doubted (proof doubted)"),
    ("unproven", 1.0, [Check("every frame", MADE, "x")], "video",
     "unproven: complete, but not checked to the end (every frame)"),
    ("remnant", 1.0, [], "photo", "remnant: only a preview or a scrap"),
    ("gone", 0.0, [], "photo", "gone: known by name only"),
)
SHARES = (("partial", 0.55, "photo", "55 % of its area is there"),
          ("partial", 0.999, "video", "99 % of its play time is there"),
          ("unproven", 1.0, "document", "complete, but not proven"),
          ("partial", 0.001, "audio", "under 1 % of its play time is there"),
          ("remnant", 0.87, "photo", "only a preview or a scrap"))
AWKWARD = ("is there to", "does not hold", "closing in", "broke off", "cannot be meant",
           "finds itself", "stand in the data", "makes no sense to", "breaks down", "breaks off")


class GoldenTest(unittest.TestCase):
    def test_reasons(self):
        for code, values, wanted in REASONS:
            with self.subTest(code):
                self.assertEqual(checks.reason(Check("n", DOUBT, code, values)), wanted)

    def test_no_reason_is_ever_a_bare_code(self):
        """With all values and with none: words, not codes."""
        for code in checks.SENTENCES:
            for values in ({}, {"bytes": 1, "share": 0.5, "offset": 9, "text": "x", "parts": 2}):
                told = checks.reason(Check("n", FAIL, code, values))
                self.assertTrue(told, code)
                self.assertNotIn("{", told)
                if " " not in checks.SENTENCES[code].split("{")[0].strip():
                    continue
                self.assertNotEqual(told, code)

    def test_grades(self):
        for grade, share, made, kind, wanted in GRADES:
            self.assertEqual(checks.grade_line(grade, share, made, kind), wanted)

    def test_shares(self):
        for grade, share, kind, wanted in SHARES:
            self.assertEqual(checks.share_line(grade, share, kind), wanted)

    def test_nothing_is_said_awkwardly(self):
        texts = [*checks.SENTENCES.values(), *checks.WHY.values(), *errors.SENTENCES.values(),
                 *activity.LOG.values(), *guards.HOLDING.values(), *cli_words.HELP.values(),
                 *(v for v in vars(window_words).values() if isinstance(v, str))]
        for text in texts:
            for awkward in AWKWARD:
                self.assertNotIn(awkward, text)

    def test_errors_say_what_is_safe_or_what_to_do(self):
        for error, wanted in (
                (JobError("job-damaged", path="/j", reason="malformed"),
                 "The job file at /j cannot be read: malformed."),
                (SourceError("source-range", path="/c", start=0, stop=4096, reason="EIO"),
                 "/c cannot be read from 0 bytes to 4.1 kB: EIO. What was found so far is kept."),
                (JobError("folder-unknown", folder="DCIM"), "No record names the folder DCIM."),
                (ValueError("surprise"), "Something unforeseen happened: surprise. What was saved "
                 "before is safe.")):
            self.assertEqual(errors.explain(error), wanted)

    def test_every_sentence_ends_as_one(self):
        for code, text in errors.SENTENCES.items():
            self.assertTrue(text.rstrip().endswith((".", "}", "?")), code)
            self.assertFalse(re.search(r"\s{2}", text), code)
        for code, text in activity.LOG.items():
            self.assertTrue(text.endswith((".", "}")), code)

    def test_a_delivery_in_one_line(self):
        self.assertEqual(
            activity.delivered_line(Delivered("/to", 57, 58_100_000, True)),
            "57 files, 58.1 MB: written, read back and compared.")
        self.assertEqual(
            activity.delivered_line(Delivered("/to", 1, 100, True, 2, 1)),
            "1 file, 100 bytes: written, read back and compared. 2 finds could not be delivered; "
            "finds.csv and the report say why. 1 name had to be shortened.")
        self.assertIn("Stopped", activity.delivered_line(Delivered("/to", 0, 0, False)))

    def test_the_report(self):
        rows = [row(1), row(2, "partial", 0.87, "b.jpg", path="b.jpg"),
                row(3, "unproven", 1.0, "c.heic", path="c.heic", removed=False),
                row(4, "remnant", 1.0, None, path=None, removed=None)]
        handed = Handed(rows, {3: "the source ends before it does."},
                        [("a/very/long/path", "data/short")], [row(9, "gone", 0.0, "lost.jpg",
                                                                   path="DCIM/lost.jpg")])
        self.assertEqual(report.text("Otter survey", handed, ["stream card.img"]), """\
Otter survey
============

What came back
3 files in this delivery, 17.4 MB.
1 opens as it always did.
1 is there in part.
1 is only a preview or a scrap.
2 had been removed; 0 were still there.

Not complete, or not proven (2)
b.jpg: 87 % of its area is there
2031-05-12 05.58.12 photo 000000004096.jpg: only a preview or a scrap

Chosen, but could not be handed over (1)
c.heic: the source ends before it does.

Names that had to be shortened (1)
a/very/long/path is now data/short

Known by name only: nothing of their content is left (1)
DCIM/lost.jpg

Where it came from
stream card.img, read only, never written to

Hashes are in manifest-sha256.txt; places on the medium and every check are in finds.json and \
finds.csv.
""")

    def test_a_report_turns_no_letters_around_and_breaks_no_lines(self):
        evil = row(1, "partial", 0.5, "a\u202eb\nc.jpg", path="x/a\u202eb\nc.jpg")
        text = report.text("t", Handed([evil], {}, [], []), ["s"])
        self.assertNotIn("\u202e", text)
        self.assertIn("x/a<U+202E>b c.jpg: 50 %", text)

    def test_a_dry_run(self):
        lines = cli_words.dry_run([row(7), row(8, "gone", 0.0)])
        self.assertEqual(lines, ["     7  whole        5.8 MB  DCIM/BF_0201.JPG",
                                 "1 file, 5.8 MB; nothing was written"])

    def test_names_and_units(self):
        self.assertEqual(finds.file_name(row(name=None)),
                         "2031-05-12 05.58.12 photo 000000004096.jpg")
        self.assertEqual(finds.title(row(name=None)), "photo at 4.1 kB")
        self.assertEqual([units.percent(s) for s in (0, 0.001, 0.5, 0.999, 1.0)],
                         ["0 %", "under 1 %", "50 %", "99 %", "100 %"])
        self.assertEqual(units.size(999), "999 bytes")
        self.assertTrue(volumes.kind("fat32"))
        self.assertEqual(finds.group_head("origin", "in:DCIM\nFERN", 0, 1), "DCIM on FERN")

    def test_shares_of_a_wait(self):
        self.assertEqual(window_words.share_there("holt.jpg", 0.553), "55 % of holt.jpg is there")
