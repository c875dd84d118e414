"""`finds` and `tray`: a job's finds listed, and its tray filled, without the window."""

from __future__ import annotations

import json

from tests import test_cli
from tests.support import FolderTest, camera_jpeg, medium, png


def call(*words: str) -> tuple[int, str, str]:
    done = test_cli.call(*words)
    return done.returncode, done.stdout, done.stderr


class FindsTest(FolderTest):
    def setUp(self):
        super().setUp()
        photo = camera_jpeg(1)
        card = self.image(medium([(4096, photo), (409_600, png()), (921_600, photo[:90_000])],
                                 1_500_000))
        self.job = str(self.folder / "job")
        self.assertEqual(call("search", str(card), "--job", self.job, "--steps", "signatures")[0],
                         0)

    def test_lists_are_narrowed_and_told_as_json(self):
        code, out, _ = call("finds", "--job", self.job)
        self.assertEqual(code, 0)
        self.assertRegex(out, r"partial \d+ %.*\n.*\n?4 finds")
        code, out, _ = call("finds", "--job", self.job, "--grades", "whole", "--json")
        told = json.loads(out)
        self.assertEqual({f["grade"] for f in told}, {"whole"})
        self.assertEqual({f["format"] for f in told}, {"jpeg", "png"})
        self.assertTrue(all(f["checks"] and f["extents"] for f in told))

    def test_the_tray_is_filled_and_emptied(self):
        self.assertIn("2 finds", call("tray", "--job", self.job, "--add", "--grades", "whole")[1])
        told = json.loads(call("finds", "--job", self.job, "--tray-only", "--json")[1])
        self.assertTrue(len(told) == 2 and all(f["in_tray"] for f in told))
        number = str(told[0]["id"])
        self.assertIn("1 find", call("tray", "--job", self.job, "--remove", "--ids", number)[1])
        self.assertIn("0 finds", call("tray", "--job", self.job, "--clear")[1])

    def test_wrong_words_are_one_sentence(self):
        for options in (("--add",), ("--add", "--ids", "99"), ("--add", "--folder", "DCIM/none")):
            code, out, error = call("tray", "--job", self.job, *options)
            self.assertEqual((code, out), (2, ""), options)
            self.assertEqual(error.strip().count("\n"), 0, error)
        self.assertEqual(call("finds", "--job", self.job, "--tray-only")[1].strip(), "0 finds")
