"""Every code that the core can raise or note has its sentence; figures read as they should."""

import ast
import re
import subprocess
import sys
import unittest
from functools import cache
from pathlib import Path

import needlewright
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.imaging.events import CopyEnding, Pause
from needlewright.core.search.record_finds import LOST_FATES, OF_NAMES
from needlewright.core.walks import Check, Outcome
from needlewright.wording import activity, breaks, checks, errors, guards, units, volumes

CORE = Path(needlewright.__file__).parent / "core"
RAISED = {"SourceError", "JobError", "DeliveryError", "NeedlewrightError"}


def codes_given_to(names: set[str], position: int) -> set[str]:
    """Constant codes at `position` of calls to `names`, in both arms of a conditional too."""
    return {n.value for name, arguments in _calls() if name in names and len(arguments) > position
            for n in ast.walk(arguments[position])
            if isinstance(n, ast.Constant) and isinstance(n.value, str)}


@cache
def _calls() -> list[tuple[str, list[ast.expr]]]:
    """(name, arguments) of every call in the core."""
    found = []
    for path in CORE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name | ast.Attribute):
                name = node.func.id if isinstance(node.func, ast.Name) else node.func.attr
                found.append((name, node.args))
    return found


class LightTest(unittest.TestCase):
    def test_whoever_only_speaks_loads_nothing_heavy(self):
        names = ", ".join(f"needlewright.wording.{p.stem}" for p in sorted(
            (CORE.parent / "wording").glob("[a-z]*.py")))
        told = subprocess.run([sys.executable, "-c", f"import sys, {names}; print(*sys.modules)"],
                              capture_output=True, text=True, check=True)
        heavy = {"numpy", "numba", "sqlite3", "PIL", "PySide6"}
        self.assertEqual(heavy & set(told.stdout.split()), set())


class SentencesTest(unittest.TestCase):
    def test_every_error_has_one(self):
        codes = codes_given_to(RAISED, 0)
        self.assertGreater(len(codes), 20)
        self.assertLessEqual(codes, set(errors.SENTENCES))

    def test_every_way_to_break_a_format_has_a_phrase_and_only_those(self):
        codes = codes_given_to({"FormatError"}, 0)
        self.assertGreater(len(codes), 150)
        self.assertEqual(codes, set(breaks.PHRASES))
        for code in codes:
            self.assertRegex(code, r"^[a-z0-9]+(-[a-z0-9]+)*$")
        self.assertEqual(errors.explain(FormatError("no-volume", 512, kind="FAT")),
                         "No FAT volume, at byte 512.")
        noted = {"start": 512, "kind": "ntfs", "problem": {
            "code": "format", "why": "file-table-unreadable", "offset": 7}}
        self.assertIn("cannot be read: the file table cannot be read.",
                      activity.log_line("volume-unread", noted))
        noted["problem"] = {"code": "source-range", "path": "card", "start": 0, "stop": 512,
                            "reason": "no"}
        self.assertIn("card cannot be read from", activity.log_line("volume-unread", noted))

    def test_reasons_of_our_own_are_words_too(self):
        codes = codes_given_to({"EOFError"}, 0)
        self.assertEqual(codes, set(errors.REASONS))
        for code in codes:
            told = errors.explain(SourceError("nbd-protocol", path="nbd://card", reason=code))
            self.assertNotIn(code, told)

    def test_every_check_and_guard_has_one(self):
        codes = codes_given_to({"Check"}, 2) - {"coded-broken", "decode-"}
        self.assertLessEqual(codes, set(checks.SENTENCES))
        holding = {c for c in codes_given_to({"Guard"}, 2) if c.startswith("to-")}
        self.assertLessEqual(holding, set(guards.HOLDING) | set(errors.SENTENCES))

    def test_every_note_and_log_entry_has_one(self):
        codes = codes_given_to({"Note", "log"}, 0) - {"search-", "copy-", "copy-waits-", "volume-"}
        codes |= {f"copy-{ending}" for ending in CopyEnding}
        codes |= {f"copy-waits-{reason}" for reason in Pause}
        self.assertLessEqual(codes, set(activity.LOG))

    def test_everything_wrong_with_a_volume_has_one(self):
        codes = codes_given_to({"Problem", "problem"}, 0)
        for path in (CORE / "volumes").rglob("*.py"):
            codes |= set(re.findall(r'problems\.add\(\s*"([a-z-]+)"', path.read_text()))
        self.assertGreater(len(codes), 15)
        self.assertLessEqual({f"volume-{code}" for code in codes}, set(activity.LOG))

    def test_every_fate_and_doubt_has_one(self):
        doubts = {"chain-cleared", "letter-guessed", "name-lost", "set-checksum", "runs-missing"}
        told = set(LOST_FATES.values()) | OF_NAMES | doubts
        self.assertLessEqual(told, set(checks.SENTENCES))
        for kind in ("fat32", "looks-encrypted", "sound"):
            self.assertTrue(volumes.kind(kind))

    def test_missing_values_never_break_a_sentence(self):
        for code in errors.SENTENCES:
            self.assertTrue(errors.sentence(code, {}).strip())
        for code in checks.SENTENCES:
            self.assertTrue(checks.reason(Check("x", Outcome.PASS, code)))
        self.assertIn("31.204 GB", errors.explain(SourceError(
            "source-range", path="card", start=31_204_000_000, stop=31_204_000_512, reason="no")))
        self.assertIn("unforeseen", errors.explain(KeyError("x")))


class UnitsTest(unittest.TestCase):
    def test_figures(self):
        self.assertEqual([units.size(n) for n in (0, 1, 999, 5_812_345, 1 << 30, 250 * 10**9)],
                         ["0 bytes", "1 byte", "999 bytes", "5.8 MB", "1.1 GB", "250 GB"])
        self.assertEqual([units.percent(x) for x in (0.0, 0.001, 0.55, 0.9999, 1.0)],
                         ["0 %", "under 1 %", "55 %", "99 %", "100 %"])
        self.assertEqual([units.duration(s) for s in (0.2, 14, 166, 3000, 11_400)],
                         ["under 1 s", "14 s", "2 min 46 s", "50 min", "3 h 10 min"])
        self.assertEqual(units.moment("2031-05-12T05:58:12"),
                         "12 May 2031, 05:58:12, zone unknown")
        self.assertEqual(units.moment("2031-05-12T05:58:12+02:00"),
                         "12 May 2031, 05:58:12, UTC+0200")
        self.assertEqual(units.stretch(31_200_000_000, 33_000_000_000), "31.2 to 33.0 GB")
