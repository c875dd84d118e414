"""Passwords and codes: in memory alone, and nowhere else, whatever becomes of the work."""

from __future__ import annotations

import os
import subprocess
import sys
import time
import traceback
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from needlewright.core import keyrings, secrets
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.standins.backups import Backed, write_backup
from tests.shelves.support import ShelfTest, photo

PROGRAM = Path(sys.executable).with_name("needlewright")
SECRET = "a reed that nobody guesses"


class SecretsTest(ShelfTest):
    def test_what_is_asked_and_what_is_remembered(self):
        heard = self.asked("one", "two", None)
        self.assertEqual(secrets.wanted("backup:x"), "one")
        self.assertEqual(secrets.wanted("backup:x"), "one")
        self.assertEqual(secrets.wanted("backup:x", wrong=True), "two")
        with self.assertRaises(SourceError) as caught:
            secrets.wanted("backup:x", wrong=True)
        self.assertEqual((caught.exception.code, heard), (
            "secret-wrong", [("password", False), ("password", True), ("password", True)]))
        with secrets.nobody_asked(), self.assertRaises(SourceError) as caught:
            secrets.wanted("backup:y")
        self.assertEqual(caught.exception.code, "secret-wanted")
        self.assertEqual(len(heard), 3)

    def test_a_file_of_secrets(self):
        path = self.folder / "secret"
        for text, secret in (("reed\n", ("reed", None)), ("reed\r\n123456\r\n", ("reed", "123456")),
                             ("re ed", ("re ed", None))):
            path.write_text(text)
            read = secrets.read_file(str(path))
            self.assertEqual((read.password, read.code), secret)
            self.assertNotIn("reed", repr(read))
        for data in (b"", b"\nreed\n", b"\xff\xfe\x00"):
            path.write_bytes(data)
            with self.assertRaises(NeedlewrightError) as caught:
                secrets.read_file(str(path))
            self.assertEqual(caught.exception.code, "secret-unread")
        for place in (self.folder, self.folder / "nowhere"):
            with self.assertRaises(NeedlewrightError):
                secrets.read_file(str(place))

    def test_errors_do_not_tell_it(self):
        secrets.keep("backup:x", secrets.Secret(SECRET))
        try:
            raise ValueError(secrets._known)
        except ValueError:
            self.assertNotIn(SECRET, traceback.format_exc())

    def test_nowhere_on_disk_and_in_no_process(self):
        """While it works and afterwards: job, log, bag, cache, configuration, /proc."""
        write_backup(self.folder / "sealed", "Reedbank F2", datetime(2031, 5, 12, tzinfo=UTC), [
            Backed(f"DCIM/FP_{n}.jpg", photo(n), datetime(2031, 5, 1, tzinfo=UTC))
            for n in range(12)], SECRET)
        home = self.folder / "home"
        home.mkdir()
        secret = self.folder / "secret"
        secret.write_text(f"{SECRET}\n")
        environment = {**os.environ, "HOME": str(home), "TMPDIR": str(home),
                       **{f"XDG_{n}_HOME": str(home / n) for n in ("CACHE", "CONFIG", "DATA",
                                                                   "STATE")}}
        work = subprocess.Popen(
            [PROGRAM, "run", f"backup:{self.folder / 'sealed'}", "--job", self.folder / "job",
             "--to", self.folder / "bag", "--secret-file", secret],
            env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        needle, looked = SECRET.encode(), 0
        while work.poll() is None:
            for process in Path("/proc").iterdir():
                if not process.name.isdigit():
                    continue
                for name in ("cmdline", "environ"):
                    try:
                        told = (process / name).read_bytes()
                    except OSError:
                        continue
                    looked += b"needlewright" in told
                    self.assertNotIn(needle, told)
            time.sleep(0.05)
        out, errors = work.communicate()
        self.assertEqual(work.returncode, 0, errors)
        self.assertGreater(looked, 3)
        self.assertNotIn(needle, out + errors)
        for path in self.folder.rglob("*"):
            if path.is_file() and path != secret:
                self.assertNotIn(needle, path.read_bytes(), path)

    def test_the_keyring_is_asked_for_what_a_person_put_there(self):
        kept: dict[tuple[str, str], str] = {}
        with mock.patch("keyring.set_password", lambda s, n, p: kept.update({(s, n): p})), \
                mock.patch("keyring.get_password", lambda s, n: kept.get((s, n))):
            self.assertIsNone(keyrings.known("backup:x"))
            keyrings.keep("backup:x", "reed")
            self.assertEqual(keyrings.known("backup:x"), "reed")
            self.assertEqual(set(kept), {("Needlewright", "backup:x")})
        with mock.patch("keyring.set_password", side_effect=RuntimeError("no keyring")), \
                self.assertRaises(keyrings.Refused):
            keyrings.keep("backup:x", "reed")


if __name__ == "__main__":
    unittest.main()
