"""The command line as a user calls it: exit status, one clear line, results on standard output."""

import json
import subprocess
import sys
import unittest
from pathlib import Path

import bagit

from needlewright import __version__
from needlewright.cli import program as command_line
from needlewright.commands import overview
from tests.core.test_stitching import cut, laid
from tests.core.test_stitching import photo as a_photo
from tests.support import FolderTest, camera_jpeg, medium, noise, png, program

PHOTO = camera_jpeg(1)


call = program


class HelpTest(unittest.TestCase):
    def test_which_commands_there_are_is_told_without_loading_one(self):
        self.assertEqual(overview().format_help(), command_line._parser().format_help())
        for asked in ("--help", "--version"):
            told = subprocess.run(
                [sys.executable, "-X", "importtime", "-m", "needlewright", asked],
                capture_output=True, text=True, check=True)
            loaded = {line.rpartition("|")[2].strip() for line in told.stderr.splitlines()}
            self.assertIn("needlewright.commands", loaded)
            self.assertEqual(loaded & {"numpy", "numba", "sqlite3", "PIL", "PySide6"}, set())
            self.assertIn("needlewright" if asked == "--help" else __version__, told.stdout)


class CliTest(FolderTest):
    def card(self) -> Path:
        return self.image(medium([(4096, PHOTO), (819_200, png())], 2_000_000))

    def test_run_then_deliver_again(self):
        done = call("run", self.card(), "--job", self.folder / "job", "--to", self.folder / "bag",
                    "--hash")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("2 finds", done.stdout)
        self.assertTrue(bagit.Bag(str(self.folder / "bag")).is_valid())
        listed = json.loads((self.folder / "bag" / "finds.json").read_text())
        self.assertEqual(len(listed["sources"][0]["sha256"]), 64)
        again = call("deliver", "--job", self.folder / "job", "--to", self.folder / "two",
                     "--grades", "whole", "--kinds", "photo")
        self.assertEqual(again.returncode, 0, again.stderr)
        self.assertEqual(len(list((self.folder / "two" / "data").iterdir())), 2)

    def test_search_in_an_area(self):
        done = call("search", self.card(), "--job", self.folder / "job", "--area", "0:500000")
        self.assertIn("1 find", done.stdout)
        more = call("search", "--job", self.folder / "job")
        self.assertIn("2 finds", more.stdout)

    def test_pieces_joined_a_step_at_a_time_and_kept(self):
        mine, other = (a_photo(seed) for seed in (1, 2))
        a, b, c = cut(mine, 9, 23)
        card = self.image(laid(a, other, c, a_photo(4), b))
        job = self.folder / "job"
        call("search", card, "--job", job, "--steps", "signatures")

        (line,) = call("join", "--job", job).stdout.splitlines()
        self.assertIn("breaks at row", line)
        mine_id = line.split()[0]

        def join(*arguments: object) -> dict:
            done = call("join", mine_id, "--job", job, "--json", *arguments)
            self.assertEqual(done.returncode, 0, done.stderr)
            return json.loads(done.stdout)

        fresh = join()
        self.assertLess(fresh["share"], 1)
        taken = join("--take", 1)
        self.assertGreater(taken["share"], fresh["share"])
        self.assertEqual(join("--undo"), fresh)
        self.assertEqual(join("--redo"), taken)
        self.assertTrue(join("--go-on")["complete"])
        listed = call("join", mine_id, "--job", job)
        self.assertIn("It runs to its own end: 3 pieces, 2 seams, proven.", listed.stdout)
        kept = call("join", mine_id, "--job", job, "--keep")
        self.assertIn("of 3 pieces, 2 seams proven, whole", kept.stdout)
        call("deliver", "--job", job, "--to", self.folder / "bag", "--grades", "whole")
        back = [p.read_bytes() for p in (self.folder / "bag" / "data").rglob("*") if p.is_file()]
        self.assertIn(mine, back)
        for arguments, status in ((("--take", 7), 2), (("--at", "weir"), 2), (("--at", "0"), 1),
                                  (("--go-on",), 1)):
            done = call("join", mine_id, "--job", job, *arguments)
            self.assertEqual(done.returncode, status, done.stderr)
            self.assertEqual(done.stderr.count("\n"), 1)
        self.assertEqual(call("join", "--job", job, "--keep").returncode, 2)
        self.assertEqual(call("join", 99, "--job", job).returncode, 2)
        whole = next(line for line in call("finds", "--job", job, "--grades", "whole")
                     .stdout.splitlines() if "at 0 bytes" not in line).split()[0]
        self.assertEqual(call("join", whole, "--job", job).returncode, 1)

    def test_no_finds_are_a_result(self):
        for name, data in (("zero", bytes(70_000)), ("noise", noise(70_000)), ("byte", b"x")):
            done = call("run", self.image(data, name), "--job", self.folder / f"job {name}",
                        "--to", self.folder / f"bag {name}")
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertNotIn("needlewright:", done.stderr)
            listed = json.loads((self.folder / f"bag {name}" / "finds.json").read_text())
            self.assertEqual(listed["finds"], [])

    def test_failures_are_one_line_and_status_1(self):
        job, to = self.folder / "job", self.folder / "bag"
        stranger = self.folder / "stranger"
        stranger.mkdir()
        (stranger / "letter.txt").write_text("dear otter")
        card = self.card()
        for arguments in (
                ("run", self.folder / "none.img", "--job", job, "--to", to),
                ("run", self.folder, "--job", job, "--to", to),
                ("run", self.image(b"", "empty"), "--job", job, "--to", to),
                ("run", card, "--job", stranger, "--to", to),
                ("run", card, "--job", job, "--to", stranger),
                ("run", card, "--job", job, "--to", job / "inside"),
                ("search", "--job", self.folder / "nowhere"),
                ("deliver", "--job", self.folder / "nowhere", "--to", to),
                ("mend", "--job", self.folder / "nowhere"),
                ("image", self.folder / "none.img", "--job", job),
                ("image", card, "--job", stranger),
                ("forecast", self.folder / "none.img"),
                ("forecast", "nbd://[broken")):
            with self.subTest(arguments=arguments[:1]):
                done = call(*arguments)
                self.assertEqual(done.returncode, 1)
                lines = done.stderr.strip().splitlines()
                self.assertEqual(len(lines), 1, done.stderr)
                self.assertTrue(lines[0].startswith("needlewright: ") and lines[0].endswith("."))
        self.assertFalse(to.exists())

    def test_wrong_arguments_are_status_2(self):
        for arguments in (("run",), ("search", "--job", "x", "--area", "9:1"),
                          ("search", "--job", "x", "--kinds", "otters"),
                          ("search", "--job", "x", "--steps", "magic"),
                          ("deliver", "--job", "x", "--to", "y", "--grades", "fine"),
                          ("one", "two")):
            self.assertEqual(call(*arguments).returncode, 2, arguments)


if __name__ == "__main__":
    unittest.main()
