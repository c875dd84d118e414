"""A phone at Intake: what is to be done on it, point by point, until its files are finds."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog, QPushButton

from needlewright.app.standin_phone import PhoneWindow
from needlewright.app.widgets.put_back_card import PutBackCard
from needlewright.app.window import DELIVERY, FINDS, INTAKE, SEARCH
from needlewright.core.errors import SourceError
from needlewright.core.phones.phone import Phone
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import phones as words
from tests.app.test_window import LEFT, WindowCase
from tests.phones import owner
from tests.support import camera_jpeg, medium


class PhonesWindowTest(WindowCase):
    def setUp(self):
        super().setUp()
        known = self.folder / "phones"
        known.mkdir()
        patch = mock.patch.dict(os.environ, NEEDLEWRIGHT_PHONES=str(known))
        patch.start()
        self.addCleanup(patch.stop)
        self.phone = FieldPhone(owner.folders(self.folder / "held"), PhoneFaults(slow=3e6))
        self.addCleanup(self.phone.close)
        (known / "field-phone.json").write_text(json.dumps({"address": self.phone.address}))
        self.card = self.window.intake.phone_card

    def state(self) -> str:
        ready = self.session.phones.ready
        return str(ready.state) if ready is not None else ""

    def ticked(self) -> list[bool]:
        return [point.text().startswith(words.DONE) for point in self.card.points]

    def test_from_locked_to_its_photos(self):
        self.station(INTAKE)
        self.session.phones.look()
        self.wait(lambda: self.window.intake.findChild(QPushButton, "phone-field-phone"),
                  "that it is known")
        QTest.mouseClick(self.window.intake.findChild(QPushButton, "phone-field-phone"), LEFT)
        self.wait(lambda: self.state() == "untrusted", "the first look")
        self.assertEqual(self.ticked(), [True, False, False, False])
        self.assertFalse(self.card.take.isEnabled())
        self.assertIn("allow", self.card.do.text())
        owners = PhoneWindow(self.phone)
        self.addCleanup(owners.close)
        self.assertIn("asks", owners.asks.text())
        for wish, state, ticks in (("trust", "closed", 2), ("unlock", "closed", 2),
                                   ("allow", "ready", 4), ("lock", "closed", 2),
                                   ("unlock", "ready", 4)):
            QTest.mouseClick(owners.buttons[wish], LEFT)
            self.wait(lambda s=state: self.state() == s, f"{wish}")
            self.wait(lambda t=ticks: sum(self.ticked()) == t, "the points")
        QTest.mouseClick(self.card.take, LEFT)
        self.wait(lambda: self.session.source is not None and self.session.source.kind == "phone",
                  "the source")
        self.assertEqual(self.session.phones.watched, "")
        self.station(SEARCH)
        self.idle()
        step = self.window.search.cards["kept-copies"]
        self.assertEqual([n for n, c in self.window.search.cards.items()
                          if not c.frame.isHidden()], ["kept-copies"])
        QTest.mouseClick(step.begin, LEFT)
        self.wait(lambda: self.session.searching, "the search")
        owners.act("pull")
        self.wait(lambda: bool(self.session.progress and self.session.progress.away), "the loss")
        self.wait(lambda: step.cost.text() == words.AWAY["unseen"], "why it waits")
        owners.act("plug")
        self.wait(lambda: not self.session.searching, "the end of it")
        self.station(FINDS)
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size == 13, "its files")
        (gone,) = [row.id for row in self.job.matching() if row.grade == "gone"]
        self.session.choice.select(gone)
        self.wait(lambda: self.session.choice.shown is not None and (
            self.session.choice.shown.record.row.id == gone), "the one that is gone")
        self.assertIsNone(self.window.findChild(QPushButton, "dossierTray"))
        self.strip_of_days()
        self.put_back()

    def put_back(self) -> None:
        """Not before its removed files are delivered; then after a clear yes, as new files."""
        ids = [int(n) for n in self.window.finds.sheet.sheet.ids]
        self.session.choice.set_tray(ids, True)
        self.idle()
        self.station(DELIVERY)
        card = self.window.delivery.findChild(PutBackCard)
        onto = self.window.delivery.findChild(QPushButton, "putBack-field-phone")
        QTest.mouseClick(onto, LEFT)
        self.wait(lambda: "deliver them first" in card.result.text(), "why not")
        self.assertFalse(card.yes.isVisible())
        self.window.delivery.choose_folder(self.folder / "bag")
        self.wait(lambda: self.window.delivery.deliver_button.isEnabled(), "the guards")
        QTest.mouseClick(self.window.delivery.deliver_button, LEFT)
        self.wait(lambda: self.session.delivered is not None and not self.session.delivery,
                  "the delivery")
        before = self.phone.truth()
        QTest.mouseClick(self.window.delivery.findChild(QPushButton, "putBack-field-phone"), LEFT)
        self.wait(card.yes.isVisible, "the question")
        self.assertIn("12 files", card.question.text())
        QTest.mouseClick(card.no, LEFT)
        self.assertFalse(card.yes.isVisible())
        QTest.mouseClick(self.window.delivery.findChild(QPushButton, "putBack-field-phone"), LEFT)
        self.wait(card.yes.isVisible, "the question")
        QTest.mouseClick(card.yes, LEFT)
        self.wait(lambda: not self.session.putting.running and bool(card.result.text()), "the end")
        self.assertIn("12 files put onto phone:field-phone", card.result.text())
        after = self.phone.truth()
        self.assertEqual({p: after[p] for p in before}, before)
        new = [p for p in after if p not in before]
        self.assertEqual(len(new), 12)
        self.assertTrue(all("/DCIM/Needlewright/" in p for p in new))
        self.assertLessEqual({after[p] for p in new}, set(before.values()))

    def strip_of_days(self) -> None:
        """In the place of the tape: a day by mouse, the next by key."""
        days = self.window.days
        self.assertFalse(self.window.tape.isVisible())
        self.wait(lambda: sum(len(day.finds) for day in days.days) == 12, "the days")
        self.assertEqual(sum(day.removed for day in days.days), 2)
        dates = [day.date for day in days.days]
        self.assertEqual(dates, sorted(dates, key=lambda d: (not d, d)))
        QTest.mouseClick(days, LEFT, pos=days.bar(0).center().toPoint())
        self.wait(lambda: self.session.choice.shown is not None and (
            self.session.choice.shown.record.row.id == days.days[0].finds[0]), "its first find")
        QTest.keyClick(days, Qt.Key.Key_Right)
        QTest.keyClick(days, Qt.Key.Key_Return)
        self.wait(lambda: self.session.choice.shown.record.row.id
                  == days.days[min(1, len(dates) - 1)].finds[0], "that of the next day")
        self.assertEqual(days.grab().height(), days.height())

    def test_raw_storage_is_copied_once_it_is_granted(self):
        image = self.folder / "card.img"
        image.write_bytes(medium([(8192, camera_jpeg(3, 320, 240))], 1 << 20))
        phone = FieldPhone(owner.folders(self.folder / "held"), raw={"card": str(image)})
        self.addCleanup(phone.close)
        entry = self.folder / "phones" / "field-phone.json"
        entry.write_text(json.dumps({"address": phone.address, "raw": phone.raw}))
        self.station(INTAKE)
        self.session.phones.look()
        self.session.phones.watch("phone:field-phone")
        self.wait(lambda: self.state() == "untrusted", "the first look")
        self.assertIn("higher right", self.card.raw_text.text())
        phone.wish("trust", "unlock", "allow", "grant")
        self.wait(lambda: bool(self.session.phones.ready.raw), "the right")
        self.wait(lambda: self.window.intake.findChild(QPushButton, "raw-card") is not None,
                  "the offer")
        QTest.mouseClick(self.window.intake.findChild(QPushButton, "raw-card"), LEFT)
        self.wait(lambda: self.session.source is not None and self.session.copies.work is None,
                  "the copy")
        copied = self.session.source.path
        with open(copied, "rb") as file:
            self.assertEqual(file.read(), image.read_bytes())

    def test_an_address_that_is_none_and_one_where_nobody_is(self):
        self.station(INTAKE)
        told = []
        self.session.problem.connect(told.append)
        for address, state in (("ptpip://a b", ""), ("ptpip://127.0.0.1:1", "unseen")):
            with mock.patch.object(QInputDialog, "getText", return_value=(address, True)):
                self.window.intake.open_address()
            self.wait(lambda s=state: (self.state() == s) if s else bool(told), "an answer")
        self.assertEqual(self.ticked(), [False] * 4)
        QTest.mouseClick(self.card.leave, LEFT)
        self.assertFalse(self.card.isVisible())
        self.assertEqual(len(told), 1)
        busy = SourceError("phone-usb-busy", path="usb:")
        with mock.patch.object(Phone, "state", side_effect=busy):
            self.session.phones.watch("usb:")
            self.wait(lambda: len(told) == 2, "why it cannot be opened")
        self.assertIn("another program", told[1])
        self.assertEqual(self.session.phones.watched, "")


class StandinCommandTest(WindowCase):
    def test_the_command_runs_it_and_takes_it_off_the_list_at_its_end(self):
        known = self.folder / "phones"
        place = {**os.environ, "NEEDLEWRIGHT_PHONES": str(known),
                 "XDG_CACHE_HOME": str(self.folder / "cache")}
        running = subprocess.Popen(
            [sys.executable, "-m", "needlewright", "standin", "phone", "--headless"],
            stdout=subprocess.PIPE, env=place, text=True)
        self.addCleanup(running.stdout.close)
        told = json.loads(running.stdout.readline())
        self.assertEqual(told["source"], "phone:field-phone")
        listed = subprocess.run(
            [sys.executable, "-m", "needlewright", "sources", "--json"], env=place, check=True,
            capture_output=True, text=True)
        (one,) = [s for s in json.loads(listed.stdout)["sources"] if s.get("state")]
        self.assertEqual((one["path"], one["state"]), ("phone:field-phone", "untrusted"))
        running.send_signal(signal.SIGINT)
        self.assertEqual(running.wait(20), 0)
        self.assertEqual(list(known.iterdir()), [])
