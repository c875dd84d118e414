"""What devices may tell of themselves that is wrong, odd or hostile, and lists all the same."""

from __future__ import annotations

import unittest
from collections.abc import Iterable

from hypothesis import given
from hypothesis import strategies as st

from needlewright.app.viewmodels.days import Day
from needlewright.core.names import safe_path
from needlewright.core.phones import codes
from needlewright.core.phones.datasets import Device, Item, Store
from needlewright.core.phones.listing import Listing, listing_of
from needlewright.core.phones.session import Refused
from needlewright.wording import finds as find_words
from needlewright.wording import phones as words
from tests.examples import examples

FOLDER = codes.FOLDER
NAMES = st.text(max_size=12) | st.sampled_from(
    ["", ".", "..", "a/b", "a\\b", "/etc/passwd", "DCIM", "x\n"])


class Told:
    """A session that tells `items`; `stores` numbers, `refused` handles."""

    device = Device("", "", "", "", 0, frozenset())

    def __init__(self, items: Iterable[Item], stores: Iterable[int] = (0x10001,),
                 refused: Iterable[int] = (), flat: bool = True, quirk: str = "") -> None:
        """`quirk`: "rooted", everything at once is refused; "one", stores are known as one."""
        self._items = {item.handle: item for item in items}
        self._stores, self._refused, self._flat = list(stores), set(refused), flat
        self._quirk = quirk

    def stores(self) -> list[Store]:
        return [Store(n, 3, 1 << 30, 0, f"Store {n & 0xFFFF}") for n in self._stores]

    def handles(self, store: int, folder: int = 0) -> list[int]:
        if store in self._refused or (self._quirk == "rooted" and folder == 0):
            raise Refused(codes.ACCESS_DENIED)
        if self._quirk == "one" and store != codes.EVERY:
            return []
        folder, flat = (0, False) if folder == codes.EVERY else (folder, self._flat)
        return [h for h, item in self._items.items()
                if item.parent == folder or (flat and folder == 0)]

    def item(self, handle: int) -> Item:
        if handle in self._refused:
            raise Refused(codes.GENERAL_ERROR)
        return self._items[handle]


def listed(*items: Item, **more: object) -> Listing:
    return listing_of(Told(items, **more), lambda done, offered: None)


class ListingTest(unittest.TestCase):
    @examples(150)
    @given(st.lists(st.tuples(NAMES, st.integers(0, 12), st.booleans(), st.integers(0, 9)),
                    max_size=12), st.booleans())
    def test_any_tree(self, told, flat):
        """Folders within themselves, names that are paths, equal names: all files, each once."""
        items = [Item(n, 0x10001, FOLDER if is_folder else 0x3801, size, parent, name)
                 for n, (name, parent, is_folder, size) in enumerate(told, 1)]
        found = listed(*items, flat=flat)
        if flat or all(item.parent == 0 for item in items):
            self.assertEqual(len(found.files), sum(1 for i in items if not i.is_folder))
        self.assertEqual(len({f.key for f in found.files}), len(found.files))
        self.assertEqual(found.offered, found.folders + len(found.files))
        for one in found.files:
            self.assertNotIn("..", one.path.split("/"))
            self.assertEqual("/".join(safe_path(one.path).parts).count("/"), one.path.count("/"))

    def test_objects_that_two_stores_list_are_one_each(self):
        items = [Item(n, 0x10001, 0x3801, 5, 0, f"FP_{n}.jpg") for n in range(1, 4)]
        found = listed(*items, stores=(0x10001, 0x20001))
        self.assertEqual([f.path for f in found.files], [f"Store 1/FP_{n}.jpg" for n in (1, 2, 3)])

    def test_devices_with_ways_of_their_own(self):
        items = [Item(n, 0x10001, form, 5, parent, name) for n, form, parent, name in (
            (1, FOLDER, 0, "DCIM"), (2, 0x3801, 1, "FP_1.jpg"), (3, FOLDER, 1, "100FP"),
            (4, 0x3801, 3, "FP_2.jpg"))]
        wanted = ["Store 1/DCIM/FP_1.jpg", "Store 1/DCIM/100FP/FP_2.jpg"]
        for quirk in ("", "rooted", "one"):
            for flat in (True, False):
                with self.subTest(quirk=quirk, flat=flat):
                    found = listed(*items, quirk=quirk, flat=flat)
                    self.assertEqual([f.path for f in found.files], wanted)
                    self.assertTrue(found.complete)

    def test_a_store_that_is_refused_is_told(self):
        found = listed(Item(1, 0x10001, 0x3801, 5, 0, "FP_1.jpg"), stores=(0x10001, 0x20001),
                       refused=(0x20001, 1))
        self.assertFalse(found.complete)
        self.assertEqual((found.missed, found.told, sum(found.refused.values())), (1, 0, 2))
        line = words.listed_line({"offered": 1, "folders": 0, "files": 1, "refused": 2,
                                  "unlisted": found.missed})
        self.assertIn("could not be listed", line)
        self.assertNotIn("complete", line)

    def test_words_of_every_state(self):
        for state in words.ORDER:
            self.assertEqual(len(words.points(state, ["Inner"])), len(words.POINTS))
            self.assertTrue(words.what_to_do(state))
        self.assertIn("Inner", words.points("ready", ["Inner"])[-1])
        line = words.phone_line({"path": "phone:x", "model": "F2", "state": "closed",
                                 "stores": [], "raw": {"card": "nbd://a/b"}})
        self.assertIn("nbd://a/b", line)
        self.assertIn("locked", words.waiting_line("phone:x", "closed"))
        day = Day("2031-05-12", (1, 2, 3), 1)
        self.assertEqual(find_words.day_line(day.date, len(day.finds), day.removed),
                         "12 May 2031: 3 finds, 1 of them removed")
        self.assertEqual(find_words.day_line("", 1, 0), "no date: 1 find")


if __name__ == "__main__":
    unittest.main()
