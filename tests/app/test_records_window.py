"""File systems in the window: volumes on the tape, steps by turns, folders, what was removed."""

import unittest

from needlewright.app.window import FINDS, INTAKE, SEARCH
from needlewright.core.jobfile.rows import Filter
from tests.app.test_window import WindowCase
from tests.support_volumes import load


class RecordsWindowTest(WindowCase):
    def open_volume(self, name: str = "fat32") -> None:
        source, self.truth = load(name)
        self.opens(source.save(self.folder / "card.img"))
        self.wait(lambda: self.window.tape.volumes_lane is not None, "the volumes")

    def search(self, *names: str) -> None:
        self.station(SEARCH)
        for name in names:
            self.click(f"begin-{name}")
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()

    def test_volumes_are_shown_before_any_search(self):
        self.open_volume()
        lane = self.window.tape.volumes_lane
        self.assertEqual([(v.kind, v.label) for v in lane.volumes], [("fat32", "FERNBECK")])
        self.assertEqual(self.window.tape._lanes(), ["volumes", "in use"])
        shares = lane.shares(0, self.session.source.size, 300)
        self.assertGreater(shares.max(), 0)
        self.station(INTAKE)
        self.assertIn("FAT32 “FERNBECK”", self.text("volume-0"))

    def test_removed_only_then_all_in_folders(self):
        self.open_volume()
        self.station(SEARCH)
        self.click("removedOnly")
        self.search("records")
        gone = {f["path"] for f in self.truth["files"] if f["state"] == "deleted"}
        rows = self.job.matching(Filter())
        self.assertEqual({r.path for r in rows}, gone)
        self.assertTrue(all(r.removed for r in rows))
        self.click("allFiles")
        self.search("records")
        self.assertEqual(len(self.job.matching(Filter())), len(self.truth["files"]))
        self.station(FINDS)
        sheet = self.window.finds.sheet
        self.wait(lambda: sheet.sheet.ids.size == len(self.truth["files"]), "the sheet")
        self.assertEqual([g.key for g in sheet.sheet.groups],
                         [f"in:{p}" for p in ("DCIM/104BRKFD", "DCIM/105BRKFD", "DCIM/106BRKFD",
                                              "NOTES")])
        self.click("removedFinds")
        self.wait(lambda: sheet.sheet.ids.size == len(gone), "the removed ones")
        self.window.finds.clear_narrowing()
        self.click("order-taken")
        self.wait(lambda: sheet.sheet.groups[0].order == "taken", "days")

    def test_steps_wait_for_their_turn_and_do_not_repeat_each_other(self):
        self.open_volume()
        self.search("records", "old-records", "signatures")
        self.wait(lambda: not self.session.queued and not self.session.searching, "all steps")
        ended = {row.step: row.ending for row in self.job.searched.steps()}
        self.assertEqual(set(ended.values()), {"done"})
        self.assertEqual(len(ended), 3)
        paths = [r.path for r in self.job.matching(Filter())]
        self.assertEqual(len(paths), len(set(paths)))
        self.assertEqual(set(paths), {f["path"] for f in self.truth["files"]})

    def test_a_folder_and_free_space_as_area(self):
        self.open_volume()
        self.station(SEARCH)
        self.window.search.folder.setText("DCIM/105BRKFD")
        self.search("records")
        rows = self.job.matching(Filter())
        self.assertEqual({r.path.rpartition("/")[0] for r in rows}, {"DCIM/105BRKFD"})
        self.window.search.folder.clear()
        self.click("areaFree")
        self.search("signatures")
        starts = {r.start for r in self.job.matching(Filter()) if not r.path}
        live = {f["extents"][0][0] for f in self.truth["files"] if f["state"] == "live"}
        self.assertFalse(starts & live)
        self.assertTrue(starts)

    def test_the_dossier_names_folder_times_and_neighbours(self):
        self.open_volume()
        self.search("records")
        row = next(r for r in self.job.matching(Filter()) if r.name == "BF_0204.JPG")
        self.station(FINDS)
        self.session.choice.select(row.id)
        self.idle()
        self.assertEqual(self.text("dossierTitle"), "BF_0204.JPG")
        told = self.dossier_texts()
        self.assertTrue(any("Removed from DCIM/104BRKFD" in t for t in told), told)
        self.assertTrue(any("zone unknown" in t for t in told), told)
        self.click("dossierBefore")
        self.assertNotEqual(self.session.choice.selection, row.id)

    def dossier_texts(self) -> list[str]:
        from PySide6.QtWidgets import QLabel

        return [label.text() for label in self.window.finds.dossier.findChildren(QLabel)]


if __name__ == "__main__":
    unittest.main()
