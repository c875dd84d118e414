"""Databases of a phone with the log that holds what was written last: read, delivered and named
together."""

from __future__ import annotations

import contextlib
import io
import json
import os
import sqlite3
import threading
import unittest
from contextlib import closing
from pathlib import Path
from unittest import mock

from needlewright.cli.program import main
from needlewright.core import kept_open
from needlewright.core.delivery.bag import deliver
from needlewright.core.jobfile.places import Places
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.beside import logs_of, with_logs
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.standins.phone.content import _messages
from needlewright.standins.phone.service import running
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording.bag import words_for
from tests.support import FolderTest


def texts(path: Path) -> list[str]:
    with closing(sqlite3.connect(path)) as base:
        return [row[0] for row in base.execute("SELECT text FROM messages ORDER BY id")]


class LogsTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.inner = self.folder / "inner" / "Documents"
        self.inner.mkdir(parents=True)
        _messages(self.inner / "messages.db")

    def job(self) -> Job:
        phone = FieldPhone([{"label": "Inner", "kind": "inner",
                             "folder": str(self.folder / "inner")}])
        self.addCleanup(phone.close)
        self.addCleanup(kept_open.let_all_go)
        phone.open()
        job, row = job_for_image(self.folder / "job", phone.address)
        self.addCleanup(job.close)
        list(run_search(job, row, Plan(("kept-copies",)), threading.Event()))
        return job

    def delivered(self, job: Job, names: set[str]) -> Path:
        bag = self.folder / "bag"
        rows = [row for row in job.matching() if row.name in names]
        list(deliver(job, rows, bag, words_for(job), threading.Event()))
        return bag

    def test_a_database_is_handed_over_with_its_log_and_read_with_it(self):
        alone = self.folder / "alone.db"
        alone.write_bytes((self.inner / "messages.db").read_bytes())
        job, out = self.job(), io.StringIO()
        number = next(row.id for row in job.matching() if row.name == "messages.db")
        with contextlib.redirect_stdout(out):
            main(["deliver", "--job", str(job.folder), "--to", str(self.folder / "bag"),
                  "--ids", str(number), "--dry-run"])
        self.assertIn("2 files, ", out.getvalue())
        bag = self.delivered(job, {"messages.db"})
        place = next(bag.rglob("messages.db"))
        rows = (place.with_name("messages.db rows") / "messages.csv").read_text()
        self.assertIn("Cub number 4 is in the holt", rows)
        finds = json.loads((bag / "finds.json").read_text())["finds"]
        self.assertEqual({f["name"] for f in finds}, {"messages.db", "messages.db-wal"})
        said = texts(place)  # as any program opens it
        self.assertEqual(said[-1], "Cub number 4 is in the holt")
        self.assertEqual(len(said) - len(texts(alone)), 5)

    def test_another_database_of_that_name_and_place_leaves_the_log_to_nobody(self):
        job = self.job()
        rows = {row.name: row for row in job.matching()}
        database, log = rows["messages.db"], rows["messages.db-wal"]
        self.assertEqual(database.grade, "whole")  # its log is not missed where it is checked
        self.assertEqual(logs_of(job, database), {"-wal": log})
        self.assertEqual(logs_of(job, log), {})
        chosen, owners = with_logs(job, [database])
        self.assertEqual((chosen, owners), ([database, log], {log.id: (database.id, "-wal")}))
        with mock.patch.object(Places, "at_path", return_value=[database, database]):
            self.assertEqual(logs_of(job, database), {})

    def test_the_log_takes_the_name_that_its_database_has_got(self):
        other = self.folder / "inner" / "documents"  # no other folder where case does not count
        other.mkdir()
        _messages(other / "messages.db")
        bag = self.delivered(self.job(), {"messages.db"})
        for place in (p for p in bag.rglob("messages*.db")):
            self.assertTrue(place.with_name(place.name + "-wal").exists(), place)
            self.assertEqual(texts(place)[-1], "Cub number 4 is in the holt")


class SeveralPhonesTest(FolderTest):
    def test_two_field_phones_run_beside_each_other(self):
        place = {"NEEDLEWRIGHT_PHONES": str(self.folder / "phones"),
                 "XDG_CACHE_HOME": str(self.folder / "cache")}
        out = io.StringIO()
        with mock.patch.dict(os.environ, place), running(PhoneFaults()) as first:
            before = first.truth()
            with running(PhoneFaults()) as second:
                self.assertEqual((first.known_as, second.known_as),
                                 ("field-phone", "field-phone-2"))
                self.assertEqual(first.truth(), before)  # nothing of it was drawn anew
                with contextlib.redirect_stdout(out):
                    self.assertEqual(main(["sources", "--json"]), 0)
            names = [s["path"] for s in json.loads(out.getvalue())["sources"] if s.get("state")]
            self.assertEqual(names, ["phone:field-phone", "phone:field-phone-2"])
            self.assertEqual(first.truth(), before)
        self.assertEqual(list((self.folder / "cache").rglob("*.jpg")), [])


if __name__ == "__main__":
    unittest.main()
