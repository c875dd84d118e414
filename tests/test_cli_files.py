"""`check` and `mend`: loose files and folders from the command line."""

from __future__ import annotations

import errno
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from needlewright.core.jobs.turns import at_work
from needlewright.wording.errors import explain
from tests.mending import damage
from tests.support import FolderTest, noise, png, program

PROGRAM = Path(sys.executable).parent / "needlewright"


class FilesTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.made = self.folder / "client's files"
        self.made.mkdir()

    def put(self, name: str, data: bytes) -> Path:
        path = self.made / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        return path

    def call(self, *arguments, status=0, apart=False):
        """`apart`: by a program of its own."""
        done = subprocess.run([str(PROGRAM), *map(str, arguments)], capture_output=True, text=True,
                              timeout=200, cwd=self.folder, check=False) if apart else (
            program(*arguments, cwd=self.folder))
        self.assertEqual(done.returncode, status, done.stderr + done.stdout)
        self.assertNotIn("Traceback", done.stderr)
        return done

    def test_what_cannot_be_read_is_told_after_the_rest_is_done(self):
        photo = self.put("whole.jpg", damage.photo(2))
        cut = self.put("cut.jpg", damage.photo(3)[:40_000])
        paths = (self.folder / "none.jpg", photo, "/proc/self/mem", cut)
        checked = self.call("check", *paths, status=1)
        self.assertIn("4 files: 1 whole, 1 partial, 2 unreadable", checked.stdout)
        done = self.call("mend", *paths, "--to", "out", status=1)
        self.assertTrue((self.folder / "out" / "cut.jpg").exists())
        self.assertIn("There is no file at", done.stdout)

    def test_a_second_program_on_a_job_says_so(self):
        self.put("cut.jpg", damage.photo(3)[:40_000])
        self.call("search", self.made, "--job", "job")
        with at_work(self.folder / "job"):
            for command in (("search", "--job", "job"), ("mend", "--job", "job")):
                self.assertIn("Another program is working",
                              self.call(*command, status=1, apart=True).stderr)
            with at_work(self.folder / "job"):  # the same program may
                pass
            self.call("search", "--job", "job", status=1, apart=True)
            self.call("finds", "--job", "job")
        self.call("mend", "--job", "job")

    def test_killed_it_leaves_whole_files_and_a_list_of_them(self):
        for number in range(6):
            self.put(f"{number}.jpg", damage.photo(2)[: 40_000 + number])
        run = subprocess.Popen([str(PROGRAM), "mend", str(self.made), "--to", "out"],
                               cwd=self.folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        with run:
            run.stdout.readline()  # the first one is done
            run.kill()
        listed = (self.folder / "out" / "mending.json").read_text().splitlines()[1:]
        told = [json.loads(line.rstrip(",")) for line in listed if line.startswith("{")]
        self.assertTrue(told)
        for entry in told:
            self.assertIsNotNone(damage.seen((self.folder / entry["output"]).read_bytes()))
        self.call("mend", self.made, "--to", "out")  # the same command goes on
        every = json.loads((self.folder / "out" / "mending.json").read_text())
        self.assertTrue(every["finished"])
        self.assertEqual(every["files"][: len(told)], told)
        self.assertEqual(len({entry["input"] for entry in every["files"]}), 6)
        self.assertTrue(all((self.folder / entry["output"]).exists() for entry in every["files"]))
        again = self.call("mend", self.made, "--to", "out", status=1)
        self.assertIn("is there already", again.stderr)

    def test_a_full_disk_is_one_sentence(self):
        for error in (OSError(errno.ENOSPC, "No space left on device", "/media/x/1.jpg"),
                      OSError(errno.EDQUOT, "Disk quota exceeded")):
            told = explain(error)
            self.assertIn("no room left", told)
            self.assertNotIn("unforeseen", told)

    def state(self) -> dict[str, tuple[int, int]]:
        return {str(p): (p.stat().st_mtime_ns, p.stat().st_size)
                for p in self.made.rglob("*") if p.is_file()}

    def test_check_tells_every_file_and_changes_none(self):
        whole = damage.photo(2)
        self.put("a/whole.jpg", whole)
        self.put("a/cut.jpg", whole[: len(whole) // 2])
        self.put("empty.jpg", b"")
        self.put("one.jpg", b"\xff")
        self.put("head lost.jpg", bytes(600) + whole[600:])
        self.put("chart.jpg", png())
        self.put("notes.txt", b"otters at dawn\n")
        self.put("behind.jpg", whole + b"something else stands here")
        (self.made / "loop").symlink_to(self.made)
        before = self.state()
        done = self.call("check", self.made, "--json", "list.json")
        self.assertEqual(self.state(), before)
        told = {Path(f["path"]).name: f for f in json.loads(
            (self.folder / "list.json").read_text())["files"]}
        self.assertEqual({n: f["grade"] for n, f in told.items()}, {
            "whole.jpg": "whole", "cut.jpg": "partial", "empty.jpg": "gone", "one.jpg": "remnant",
            "head lost.jpg": "remnant", "chart.jpg": "whole", "notes.txt": "whole",
            "behind.jpg": "whole"})
        self.assertTrue(0.3 < told["cut.jpg"]["share"] < 0.6)
        self.assertIn("breaks at row", told["cut.jpg"]["reason"])
        self.assertTrue(any("promises" in c["detail"] for c in told["chart.jpg"]["checks"]))
        self.assertTrue(any("follow its own end" in c["detail"]
                            for c in told["behind.jpg"]["checks"]))
        lines = done.stdout.splitlines()
        self.assertEqual(len(lines), 9)
        self.assertEqual(lines[-1], "8 files: 4 whole, 1 partial, 2 remnant, 1 gone")

    def test_mend_writes_beside_and_lists_every_input(self):
        whole = damage.photo(2)
        at = damage.inside(whole, 0.5)
        self.put("torn.jpg", whole[:at] + noise(600) + whole[at:])
        self.put("whole.jpg", whole)
        self.put("no header.jpg", whole[damage.coded_start(whole):])
        self.put("noise.jpg", noise(4000))
        self.put("empty.jpg", b"")
        before = self.state()
        self.call("mend", self.made, "--to", "out", "--reference", self.made / "whole.jpg")
        self.assertEqual(self.state(), before)
        listed = json.loads((self.folder / "out" / "mending.json").read_text())["files"]
        told = {Path(f["input"]).name: f for f in listed}
        self.assertEqual(set(told), {Path(p).name for p in before})
        for name in ("torn.jpg", "no header.jpg"):
            self.assertEqual(told[name]["grade"], "mended")
            self.assertGreater(damage.kept(Path(self.folder / told[name]["output"]).read_bytes(),
                                           whole), 0.97)
            self.assertTrue(all(set(c) >= {"code", "detail"} for c in told[name]["changes"]))
        self.assertTrue(told["no header.jpg"]["reference"].endswith("whole.jpg"))
        for name in ("whole.jpg", "noise.jpg", "empty.jpg"):
            self.assertIsNone(told[name]["output"])
            self.assertTrue(told[name]["reason"])
        self.assertEqual({p.name for p in (self.folder / "out").iterdir()},
                         {"torn.jpg", "no header.jpg", "mending.json"})

    def test_siblings_among_the_files_are_references_by_themselves(self):
        whole = damage.photo(2)
        self.put("a lost.jpg", whole[damage.coded_start(whole):])
        self.put("b sound.jpg", damage.photo(3))
        self.call("mend", self.made, "--to", "out")
        (one, two) = json.loads((self.folder / "out" / "mending.json").read_text())["files"]
        lost = one if one["input"].endswith("a lost.jpg") else two
        self.assertEqual(lost["grade"], "mended")
        self.assertTrue(lost["reference"].endswith("b sound.jpg"))

    def test_names_that_are_taken_are_left_alone(self):
        whole = damage.photo(2)
        self.put("x.jpg", whole[:-2])
        self.put("deeper/x.jpg", whole[:-2])
        out = self.folder / "out"
        out.mkdir()
        (out / "x.jpg").write_bytes(b"mine")
        self.call("mend", self.made, "--to", out)
        self.assertEqual((out / "x.jpg").read_bytes(), b"mine")
        self.assertEqual((out / "x-2.jpg").read_bytes(), whole)
        self.assertEqual((out / "x-3.jpg").read_bytes(), whole)
        again = self.call("mend", self.made, "--to", out, status=1)
        self.assertIn("there already", again.stderr)

    def test_an_interrupted_run_goes_on_with_the_same_command(self):
        whole = damage.photo(2)
        for name in ("x.jpg", "y.jpg"):
            self.put(name, whole[:-2])
        out = self.folder / "out"
        self.call("mend", self.made, "--to", out)
        list_ = out / "mending.json"
        lines = list_.read_text(encoding="utf-8").splitlines()
        self.assertIn('"finished": true', lines[-1])
        # As a kill leaves it: one file done, the next one half told.
        list_.write_text("\n".join([*lines[:2], lines[2][:40]]), encoding="utf-8")
        second = Path(json.loads(lines[2])["output"])
        second.unlink()
        done = self.call("mend", self.made, "--to", out)
        self.assertIn("1 file mended", done.stdout)
        told = json.loads(list_.read_text(encoding="utf-8"))
        self.assertEqual(sorted(Path(f["output"]).name for f in told["files"]), ["x.jpg", "y.jpg"])
        self.assertEqual(second.read_bytes(), whole)

    def test_a_list_that_cannot_be_written_is_one_sentence(self):
        done = self.call("check", self.made, "--json", self.folder / "none" / "l.json", status=1)
        self.assertIn("cannot be used: no such file", done.stderr)

    def test_into_the_very_folder_nothing_is_written_over(self):
        whole = damage.photo(2)
        path = self.put("x.jpg", whole[:-2])
        self.call("mend", self.made, "--to", self.made)
        self.assertEqual(path.read_bytes(), whole[:-2])
        self.assertEqual((self.made / "x-2.jpg").read_bytes(), whole)

    def test_wrong_arguments(self):
        for arguments, status, part in (
                (("check",), 2, "PATH"), (("mend",), 2, "--to"), (("mend", "x.jpg"), 2, "--to"),
                (("check", "nowhere"), 1, "no file"),
                (("mend", "nowhere", "--to", "o"), 1, "no file"),
                (("mend", self.made, "--to", "o", "--reference", "nowhere"), 2, "no file"),
                (("mend", "--job", "nowhere"), 1, "no job"),
                (("mend", self.made, "--job", "j", "--to", "o"), 2, "--job")):
            with self.subTest(arguments):
                done = self.call(*arguments, status=status)
                self.assertIn(part, done.stderr + done.stdout)
        self.put("file", b"x")
        self.call("mend", self.made, "--to", self.made / "file", status=1)

    def test_a_strange_working_directory_is_never_imported_from(self):
        for name in ("PIL", "numpy", "av", "json", "needlewright"):
            (self.folder / f"{name}.py").write_text("raise SystemExit('a stranger')\n")
        self.put("x.jpg", damage.photo(2)[:-2])
        self.assertIn("mended", self.call("mend", self.made, "--to", "out").stdout)

    def test_a_full_disk_is_one_clear_line_and_leaves_no_half_file(self):
        if os.geteuid() != 0 or not Path("/dev/shm").is_dir():
            self.skipTest("needs to mount a small file system")
        small = self.folder / "small"
        small.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "none", str(small)],
                                 capture_output=True, check=False)
        if mounted.returncode:
            self.skipTest("may not mount")
        try:
            self.put("x.jpg", damage.photo(2)[:-2])
            done = self.call("mend", self.made, "--to", small / "out", status=1)
            self.assertEqual(len([x for x in done.stderr.splitlines() if "needlewright:" in x]), 1)
            self.assertEqual([p.name for p in (small / "out").glob("*.jpg")], [])
        finally:
            subprocess.run(["umount", str(small)], check=False)

    def test_interrupted_it_keeps_what_is_done(self):
        for number in range(60):
            self.put(f"{number:02}.jpg", damage.photo(2)[:-2])
        started = subprocess.Popen([str(PROGRAM), "mend", str(self.made), "--to", "out"],
                                   cwd=self.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                                   text=True)
        while not list((self.folder / "out").glob("0*.jpg")):
            self.assertIsNone(started.poll())
            time.sleep(0.01)
        started.send_signal(signal.SIGINT)
        _, said = started.communicate(timeout=60)
        self.assertEqual(started.returncode, 1)
        self.assertIn("interrupted", said)
        left = sorted(p.name for p in (self.folder / "out").iterdir())
        self.assertFalse([n for n in left if n.startswith(".")])
        listed = json.loads((self.folder / "out" / "mending.json").read_text())["files"]
        self.assertEqual(sum(1 for f in listed if f["output"]), len(left) - 1)
        for path in (self.folder / "out").glob("*.jpg"):
            self.assertEqual(path.read_bytes(), damage.photo(2))
