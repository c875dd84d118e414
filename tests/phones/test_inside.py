"""Looking inside a phone before anything is fetched: names, the device's own small pictures, a
choice of files, and a session that goes on with its list."""

from __future__ import annotations

import contextlib
import io
import json
import threading
import unittest
from unittest import mock

from PIL import Image

from needlewright.cli.program import main
from needlewright.core import kept_open
from needlewright.core.delivery.onto_phone import check
from needlewright.core.errors import DeliveryError, SourceError
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.phones.phone import Phone, State
from needlewright.core.search.events import Progress
from needlewright.core.search.plan import Plan
from needlewright.core.search.shelf_names import ShelfNames, named_keys
from needlewright.core.sources.registry import open_source
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import inside as words
from tests.phones import owner
from tests.support import FolderTest

TRASHED = "Inner/DCIM/Camera/.trashed-1925000000-FP_0091.jpg"


class InsideTest(FolderTest):
    def phone(self, **faults: object) -> FieldPhone:
        made = FieldPhone(owner.folders(self.folder), PhoneFaults(**faults))
        self.addCleanup(made.close)
        self.addCleanup(kept_open.let_all_go)
        made.open()
        return made

    def command(self, *arguments: str) -> tuple[int, str, str]:
        out, errors = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
            status = main(list(arguments))
        return status, out.getvalue(), errors.getvalue()

    def test_names_tell_what_is_removed_hidden_and_refused(self):
        phone = self.phone(unlisted=["FP_0002.jpg"])
        with open_source(phone.address) as shelf:
            every = {one.name: one for one in ShelfNames(shelf.offered()).wanted(Plan())}
            small = shelf.thumbnail(every["FP_0091.jpg"].offered)
            with Image.open(io.BytesIO(small)) as picture:
                self.assertEqual((picture.format, max(picture.size)), ("JPEG", 160))
            self.assertEqual(shelf.thumbnail(every["large.bin"].offered), b"")  # it has none
        told = {name: words.state(one).partition(",")[0] for name, one in every.items()}
        self.assertEqual((told["FP_0091.jpg"], told["FP_0007.jpg"], told["FP_0092.jpg"],
                          told["FP_0001.jpg"]), ("removed", "hidden", "unfinished", "there"))
        self.assertEqual([n for n, one in every.items() if words.state(one) == "refused"],
                         [n for n in every if n.startswith("object ")])
        chosen = list(ShelfNames(shelf.offered()).wanted(Plan(removed_only=True)))
        self.assertIn("1 removed and still kept", words.summary([every["FP_0091.jpg"]]))
        self.assertEqual({one.path for one in chosen if one.kept.code == "phone-trash"}, {TRASHED})

    def test_only_what_was_chosen_is_brought_and_the_rest_afterwards(self):
        phone = self.phone()
        with open_source(phone.address) as shelf:
            keys, unknown = named_keys(shelf.offered(), [TRASHED, "Inner/none.jpg"])
        self.assertEqual((len(keys), unknown), (1, ["Inner/none.jpg"]))
        job, row = job_for_image(self.folder / "job", phone.address)
        with job:
            stop = threading.Event()
            events = list(run_search(job, row, Plan(("kept-copies",), keys=keys), stop))
            self.assertEqual([r.path for r in job.matching()], [TRASHED])
            self.assertEqual([e.files for e in events if isinstance(e, Progress) and e.files][-1],
                             (1, 1))
            with self.assertRaises(DeliveryError) as refused:  # others may be removed there, too
                check(job, job.matching(), phone.address)
            self.assertEqual(refused.exception.code, "onto-unsearched")
            list(run_search(job, row, Plan(("kept-copies",)), stop))
            self.assertGreater(len(job.matching()), 8)

    def test_listed_once_for_opening_and_searching_and_anew_when_it_changed(self):
        phone = self.phone(single=True)
        job, row = job_for_image(self.folder / "job", phone.address)
        with job:
            list(run_search(job, row, Plan(("kept-copies",)), threading.Event()))
            before = phone.wish("state")["listings"]
            self.assertEqual(before, 1)
            (self.folder / "new.jpg").write_bytes(b"\xff\xd8 a new one")
            other = Phone(phone.address)
            self.addCleanup(other.close)
            name, _ = other.put(self.folder / "new.jpg", "new.jpg")  # what was kept gives way
            other.close()
            with open_source(phone.address) as shelf:
                self.assertIn(name, {o.entry.path.rpartition("/")[2] for o in shelf.offered()})
            phone.wish("lock")
            with self.assertRaises(SourceError) as locked, open_source(phone.address) as shelf:
                shelf.offered()
            self.assertEqual(locked.exception.code, "phone-closed")

    def test_what_nobody_takes_is_closed_and_one_that_speaks_with_another_is_told(self):
        phone = self.phone(single=True)
        with mock.patch.object(kept_open, "KEPT_SECONDS", 0.05):
            with open_source(phone.address) as shelf:
                told: list[tuple[int, int]] = []
                shelf.look(lambda done, offered: told.append((done, offered)))
                kept = shelf.phone
            for _ in range(200):
                if not kept.is_open:
                    break
                threading.Event().wait(0.05)
            self.assertFalse(kept.is_open)
        first, second = Phone(phone.address), Phone(phone.address)
        self.addCleanup(first.close)
        self.addCleanup(second.close)
        self.assertEqual(first.state()[0], State.READY)
        self.assertEqual(second.state()[0], State.BUSY)
        first.close()

    def test_by_command(self):
        phone = self.phone()
        status, out, _ = self.command("inside", phone.address, "--removed-only", "--names")
        self.assertEqual((status, out.splitlines()[-1]), (0, TRASHED))
        names = self.folder / "names.txt"
        names.write_text(TRASHED + "\n")
        small = self.folder / "small"
        status, out, _ = self.command("inside", phone.address, "--kinds", "photo", "--json",
                                      "--thumbnails", str(small))
        files = json.loads(out)["files"]
        self.assertEqual((status, {f["kind"] for f in files}), (0, {"photo"}))
        self.assertGreater(len(list(small.iterdir())), 8)
        bag = self.folder / "bag"
        status, out, errors = self.command("run", phone.address, "--job", str(self.folder / "job"),
                                           "--to", str(bag), "--named", str(names))
        self.assertEqual(status, 0, errors)
        self.assertEqual([p.name for p in (bag / "data").rglob("*.jpg")], ["FP_0091.jpg"])
        names.write_text("Inner/none.jpg\n")
        card = self.folder / "card.img"
        card.write_bytes(bytes(1 << 20))
        for given, code in ((("search", str(card), "--job", str(self.folder / "other"),
                              "--named", str(names)), 2),
                            (("search", phone.address, "--job", str(self.folder / "job"),
                              "--named", str(names)), 1),
                            (("inside", str(self.folder)), 2),
                            (("inside", phone.address, "--thumbnails", str(small)), 1)):
            status, _, errors = self.command(*given)
            self.assertEqual((status, len(errors.splitlines())), (code, 1), errors)


if __name__ == "__main__":
    unittest.main()
