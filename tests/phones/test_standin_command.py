"""What simulated devices understand is what their help says."""

import contextlib
import io
import json
import re
import unittest
from types import SimpleNamespace
from unittest import mock

from needlewright.cli import arguments as cli
from needlewright.cli.program import main
from needlewright.standins.album.__main__ import Owner as AlbumOwner
from needlewright.standins.album.content import PASSWORD as ALBUM_PASSWORD
from needlewright.standins.phone.service import running
from needlewright.standins.phone.state import PhoneFaults, State
from needlewright.standins.survey_backups import PASSWORD as BACKUP_PASSWORD
from needlewright.standins.sync.app import Owner as SyncOwner
from needlewright.standins.sync.faults import PASSWORD as SYNC_PASSWORD
from needlewright.wording.cli import STANDIN_EPILOG


def printed(*arguments: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main(list(arguments))
        except SystemExit as ended:
            code = int(ended.code or 0)
    return code, out.getvalue(), err.getvalue()


class StandinCommandTest(unittest.TestCase):
    def test_the_help_lists_every_word_and_password(self):
        code, told, _ = printed("standin", "--help")
        self.assertEqual(code, 0)
        for password in (ALBUM_PASSWORD, SYNC_PASSWORD, BACKUP_PASSWORD):
            self.assertIn(f'"{password}"', told)
        faults = SimpleNamespace(faults=SimpleNamespace(down=False))
        owners = (State(PhoneFaults()), AlbumOwner(faults), SyncOwner(faults))
        parts = STANDIN_EPILOG.split("\n\n")[1:4]
        for part, owner in zip(parts, owners, strict=True):
            words = re.findall(r"[a-z]+", ",".join(
                re.findall(r"^  ([a-z]+(?:, [a-z]+)*)(?:  |$)", part, re.MULTILINE)))
            self.assertGreaterEqual(len(words), 4)
            for word in words:
                self.assertTrue(owner.act(word), word)

    def test_its_owner_acts_from_another_terminal(self):
        with running(PhoneFaults()) as phone:
            code, told, _ = printed("standin", "phone", "--control", phone.control,
                                    "--say", "unlock,trust")
            self.assertEqual((code, [json.loads(line)["trusted"] for line in told.splitlines()]),
                             (0, [False, True]))
            self.assertEqual(printed("standin", "phone", "--control", phone.control,
                                     "--say", "dance,unlock")[0], 1)
            address = phone.address
            with mock.patch.object(cli, "PHONE_SECONDS", 0.2):
                code, _, err = printed("inside", address)
            self.assertEqual((code, len(err.splitlines())), (1, 2))  # it waits; it ends
        code, _, err = printed("standin", "phone", "--control", "/nowhere", "--say", "unlock")
        self.assertEqual((code, len(err.splitlines())), (1, 1))
        self.assertEqual(printed("standin", "phone", "--say", "unlock")[0], 2)

    def test_the_help_says_how_long_a_phone_is_waited_for(self):
        for command in ("inside", "search", "run"):
            self.assertIn(f"{cli.PHONE_SECONDS:.0f} if not given",
                          " ".join(printed(command, "--help")[1].split()))


if __name__ == "__main__":
    unittest.main()
