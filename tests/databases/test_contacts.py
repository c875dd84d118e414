"""A SIM's phone book, written by the standard's tables here, and contacts as cards."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import unittest

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.databases.sim_book import ALPHABET, EXTENSION, Contact, contacts
from needlewright.core.databases.vcards import LINE, card
from tests.examples import examples
from tests.support import FolderTest, noise

PLAIN = ALPHABET.replace("\x1b", "").replace("\n", "").replace("\r", "")
NAMES = st.text(PLAIN, max_size=14) | st.text(st.sampled_from("Љубица Ωτερ 山田"), max_size=6)
NUMBERS = st.from_regex(r"\+?[0-9*#]{1,20}", fullmatch=True)


def record(name: str, number: str, room: int, base: int | None = None) -> bytes:
    """One record (TS 51.011, 10.5.1): `room` bytes for the name, which `base` codes as 0x81."""
    if base is not None:
        coded = bytes([0x81, len(name), base >> 7]) + bytes(
            (ord(c) - base) | 0x80 if ord(c) >= base and c not in PLAIN else ALPHABET.index(c)
            for c in name)
    elif all(c in PLAIN for c in name):
        coded = bytes(ALPHABET.index(c) for c in name)
    else:
        coded = b"\x80" + name.encode("utf-16-be")
    digits = ["0123456789*#".index(c) for c in number.lstrip("+")]
    packed = bytes(a | (b << 4) for a, b in zip(digits[::2], [*digits[1::2], 15]))
    kind = 0x91 if number.startswith("+") else 0x81
    footer = bytes([1 + len(packed), kind]) + packed.ljust(10, b"\xff") + b"\xff\xff"
    return coded.ljust(room, b"\xff") + footer


class SimBookTest(unittest.TestCase):
    @examples(120)
    @given(st.lists(st.tuples(NAMES, NUMBERS), min_size=1, max_size=12), st.integers(14, 40),
           st.randoms())
    def test_what_was_written_is_read(self, entries, room, rng):
        dump, wanted = b"", []
        for name, number in entries:
            if rng.random() < 0.3:
                dump += b"\xff" * (room + 14)  # an unused record
            wanted.append((name.strip(), number))
            dump += record(name, number, room)
        found = contacts(dump)
        # Of few entries another length may make as much sense; never fewer are read.
        self.assertGreaterEqual(len(found), len(wanted))
        if len(found) == len(wanted) and found[0].at % (room + 14) == 0:
            self.assertEqual([(c.name, c.number) for c in found], wanted)

    def test_codings_of_names(self):
        room = 20
        dump = record("Hollow Bank", "+4420", room) + record("Ωτα", "112", room, 0x380)
        dump += bytes(EXTENSION and [0x1B, 0x65]).ljust(room, b"\xff") + record("", "5", 0)
        found = contacts(dump)
        self.assertEqual(found, [
            Contact(1, 0, "Hollow Bank", "+4420"), Contact(2, 34, "Ωτα", "112"),
            Contact(3, 68, "€", "5")])

    def test_other_files_are_none(self):
        for data in (b"", b"\xff" * 340, noise(340, 1), noise(3400, 2), b"text " * 200,
                     bytes(680)):
            self.assertEqual(contacts(data), [])


class CardTest(FolderTest):
    def test_cards(self):
        self.assertEqual(card(("name", "number"), ("Hollow; Bank", "+44 20")), (
            "BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Hollow\\; Bank\r\nTEL;VALUE=uri:tel:+4420\r\n"
            "END:VCARD\r\n"))
        self.assertIn("TEL;VALUE=text:112", card(("Name", "Phone"), ("Weir", 112)) or "")
        self.assertIsNone(card(("name", "text"), ("Weir", "x")))
        self.assertIsNone(card(("name", "number"), (None, None)))

    @given(st.text(max_size=200))
    def test_lines_are_folded_between_letters(self, name):
        made = card(("name", "number"), (name, "1"))
        for line in (made or "").split("\r\n"):
            self.assertLessEqual(len(line.encode("utf-8", "replace")), LINE)

    def test_by_the_command(self):
        sim, base = self.folder / "adn.bin", self.folder / "contacts.db"
        sim.write_bytes(record("Reed Island", "+4420123", 18) * 2)
        with sqlite3.connect(base) as made:
            made.execute("CREATE TABLE people (name TEXT, phone TEXT)")
            made.execute("INSERT INTO people VALUES ('Hollow Bank', '+44777')")
        made.close()
        for path, wanted, count in ((sim, "Reed Island", 2), (base, "Hollow Bank", 1)):
            cards = self.folder / f"{path.stem}.vcf"
            call = [sys.executable, "-m", "needlewright", "rows", str(path), "--vcard", str(cards)]
            done = subprocess.run(call, capture_output=True, text=True, check=True)
            self.assertIn(wanted, done.stdout)
            self.assertEqual(cards.read_text().count("BEGIN:VCARD"), count)
            again = subprocess.run(call, capture_output=True, text=True)
            self.assertEqual(again.returncode, 1)


if __name__ == "__main__":
    unittest.main()
