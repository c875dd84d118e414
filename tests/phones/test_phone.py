"""What a phone holds, every object of it, in every state and with every fault."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import socket
import struct
import subprocess
import sys
import threading
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.phones import codes, datasets, link_ip
from needlewright.core.phones.datasets import Item
from needlewright.core.phones.link import Lost
from needlewright.core.phones.link_ip import IpLink
from needlewright.core.phones.listing import date_text
from needlewright.core.phones.phone import Phone, State
from needlewright.core.phones.session import Session
from needlewright.core.stopping import Interrupted
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from tests.examples import examples
from tests.phones import owner
from tests.support import FolderTest

CLIENT = """
import json, sys
import gphoto2 as gp
camera, port = gp.Camera(), sys.argv[1]
abilities = gp.CameraAbilitiesList()
abilities.load()
camera.set_abilities(abilities.get_abilities(abilities.lookup_model("PTP/IP Camera")))
ports = gp.PortInfoList()
ports.load()
camera.set_port_info(ports.get_info(ports.lookup_path(f"ptpip:127.0.0.1:{port}:{port}")))
camera.init()
import hashlib
found = {}
def walk(folder):
    for name, _ in camera.folder_list_files(folder):
        file = camera.file_get(folder, name, gp.GP_FILE_TYPE_NORMAL)
        data = file.get_data_and_size()
        found[f"{folder}/{name}"] = hashlib.sha256(bytes(memoryview(data))).hexdigest()
    for name, _ in camera.folder_list_folders(folder):
        walk(folder.rstrip("/") + "/" + name)
walk("/")
camera.exit()
print(json.dumps(found))
"""


class PhoneTest(FolderTest):
    def phone(self, **faults: object) -> FieldPhone:
        made = FieldPhone(owner.folders(self.folder), PhoneFaults(**faults))
        self.addCleanup(made.close)
        return made

    def client(self, phone: FieldPhone) -> Phone:
        made = Phone(phone.address)
        self.addCleanup(made.close)
        return made

    def fetched(self, client: Phone) -> dict[str, list[str]]:
        """SHA-256 of what was brought, by path; hashes told and those of the files agree."""
        found: dict[str, list[str]] = {}
        for number, held in enumerate(client.listing().files):
            path = self.folder / f"out {number}"
            path.unlink(missing_ok=True)
            self.assertEqual(client.fetch(held, path), path.stat().st_size)
            found.setdefault(held.path, []).append(owner.sha256(path))
        return {path: sorted(hashes) for path, hashes in found.items()}

    def test_states_turn_as_its_owner_acts(self):
        phone = self.phone()
        client = self.client(phone)
        said = []
        for wish in ("unlock", "trust", "allow", "lock", "unlock", "pull", "plug", "refuse"):
            phone.wish(wish)
            said.append(client.state()[0])
        self.assertEqual(said, [
            State.UNTRUSTED, State.CLOSED, State.READY, State.CLOSED, State.READY, State.UNSEEN,
            State.READY, State.CLOSED])
        phone.close()
        self.assertEqual(client.state(), (State.UNSEEN, []))

    def test_everything_is_listed_and_fetched(self):
        for faults in ({}, {"plain": True}, {"plain": True, "shallow": True}, {"shallow": True},
                       {"ranges": "refuses"}):
            with self.subTest(faults):
                phone = self.phone(twins=["FP_0003.jpg", "Überblick.png"], **faults)
                phone.open()
                client = self.client(phone)
                listing = client.listing()
                self.assertTrue(listing.complete)
                self.assertEqual([s.label for s in listing.stores], ["Inner", "Card"])
                self.assertEqual(listing.offered, listing.folders + len(listing.files))
                self.assertEqual(len({f.key for f in listing.files}), len(listing.files))
                self.assertEqual(self.fetched(client), owner.by_path(phone.truth()))
                small = next(f for f in listing.files if f.path.endswith("FP_0001.jpg"))
                self.assertEqual(client.thumbnail(small)[:2], b"\xff\xd8")
                phone.close()

    def test_a_device_that_does_no_more_than_it_must(self):
        phone = self.phone(bare=True, plain=True)
        phone.open()
        client = self.client(phone)
        self.assertEqual(client.state()[0], State.READY)
        self.assertEqual(self.fetched(client), owner.by_path(phone.truth()))

    def test_what_is_refused_is_counted_with_its_answer(self):
        phone = self.phone(unlisted=["FP_0002.jpg"], refuses=["FP_0004.jpg"],
                           short=["FP_0005.jpg"])
        phone.open()
        client = self.client(phone)
        listing = client.listing()
        self.assertEqual(dict(listing.refused), {codes.ACCESS_DENIED: 1})
        self.assertEqual([f.refused for f in listing.files if f.refused], [codes.ACCESS_DENIED])
        by_name = {f.path.rpartition("/")[2]: f for f in listing.files}
        with self.assertRaises(SourceError) as told:
            client.fetch(by_name["FP_0004.jpg"], self.folder / "refused")
        self.assertEqual(told.exception.code, "phone-refused")  # not as of a locked phone
        self.assertIn("access denied", told.exception.values["reason"])
        with self.assertRaises(SourceError) as told:
            client.fetch(by_name["FP_0005.jpg"], self.folder / "short")
        self.assertEqual(told.exception.values["reason"], "wrong-length")
        client.fetch(by_name["FP_0001.jpg"], self.folder / "sound")  # in a new session
        self.assertEqual(owner.sha256(self.folder / "sound"), owner.sha256(
            self.folder / owner.CAMERA / "FP_0001.jpg"))

    def test_a_broken_connection_goes_on_within_the_file(self):
        phone = self.phone(drops=[60_000, *owner.moments(1, 6, 3 << 20)])
        phone.open()
        client = self.client(phone)
        out = self.folder / "out"
        sizes = []
        for _ in range(10):
            with contextlib.suppress(SourceError):
                large = next(f for f in client.listing().files if f.path.endswith("large.bin"))
                client.fetch(large, out)
                break
            sizes.append(out.stat().st_size if out.exists() else 0)
        self.assertEqual(sizes, sorted(sizes))
        self.assertGreater(len(set(sizes)), 3)
        self.assertEqual(owner.sha256(out), owner.sha256(self.folder / "inner/large.bin"))

    def test_another_transactions_answer_is_never_taken(self):
        phone = self.phone(strays=23)
        phone.open()
        client = self.client(phone)
        truth, lost, right = owner.by_path(phone.truth()), 0, 0
        for _ in range(40):
            try:
                listing = client.listing()
                for held in listing.files:
                    client.fetch(held, self.folder / "out")
                    self.assertIn(owner.sha256(self.folder / "out"), truth[held.path])
                    (self.folder / "out").unlink()
                    right += 1
            except SourceError as error:
                self.assertEqual(error.values["reason"], "another-answer")
                lost += 1
        self.assertGreater(lost, 20)
        self.assertGreater(right, 20)

    def test_sizes_and_places_beyond_32_bits(self):
        phone = self.phone()
        huge = self.folder / "inner" / "huge.mp4"
        end = b"the end of it"
        with huge.open("wb") as file:
            file.seek((5 << 30) - len(end))
            file.write(end)
        phone.close()
        phone = self.phone()
        phone.open()
        host, port = phone.address.removeprefix("ptpip://").split(":")
        session = Session(IpLink(host, int(port)))
        held = next(f for f in self.client(phone).listing().files if f.path.endswith("huge.mp4"))
        self.assertEqual(held.size, 5 << 30)
        out = io.BytesIO()
        begin = (5 << 30) - 100
        self.assertEqual(session.fetch(Item(held.handle, size=held.size), begin, out,
                                       lambda part: None), 5 << 30)
        self.assertEqual(out.getvalue(), bytes(100 - len(end)) + end)
        session.close()

    def test_what_is_told_to_stop_stops(self):
        phone = self.phone(slow=200_000.0)
        phone.open()
        client = self.client(phone)
        large = next(f for f in client.listing().files if f.path.endswith("large.bin"))
        stop = threading.Event()
        client.stop = stop
        with self.assertRaises(Interrupted):
            client.fetch(large, self.folder / "out", lambda got: stop.set())

    def test_an_independent_client_sees_the_same(self):
        """libgphoto2, which says for the field phone that it is one."""
        stores = owner.folders(self.folder)
        for odd in (next((self.folder / "inner").glob("Otter*")), self.folder / "inner/Decoys"):
            shutil.rmtree(odd)  # which it cannot name, and a file without bytes
        phone = FieldPhone(stores)
        self.addCleanup(phone.close)
        phone.open()
        port = phone.address.rpartition(":")[2]
        done = subprocess.run(
            [sys.executable, "-I", "-c", CLIENT, port], stdin=subprocess.DEVNULL, timeout=120,
            capture_output=True, env={**os.environ, "LC_ALL": "C.UTF-8"}, check=True)
        theirs = json.loads(done.stdout)
        ours = sorted(h for hashes in owner.by_path(phone.truth()).values() for h in hashes)
        self.assertEqual(sorted(theirs.values()), ours)


class ResponderTest(unittest.TestCase):
    """What does not speak as it should."""

    def serve(self, answers: bytes) -> tuple[str, int]:
        """A server that says `answers` to whoever connects, whatever is asked, and no more."""
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)

        def run() -> None:
            with contextlib.suppress(OSError):
                while True:
                    client, _ = listener.accept()
                    client.sendall(answers)
                    client.shutdown(socket.SHUT_WR)
                    self.addCleanup(client.close)

        threading.Thread(target=run, daemon=True).start()
        return "127.0.0.1", int(listener.getsockname()[1])

    def test_any_answer_ends_in_lost(self):
        greeting = struct.pack("<II", 8 + 28, link_ip.COMMAND_ACK) + bytes(28)
        event = struct.pack("<II", 8, link_ip.EVENT_ACK)
        cases = (b"", b"HTTP/1.1 400 Bad Request\r\n\r\n", struct.pack("<II", 1 << 31, 2),
                 struct.pack("<II", 4, 2), greeting, greeting + event + bytes(400),
                 event, greeting + struct.pack("<II", 8, 99))
        for answers in cases:
            with self.subTest(answers=answers[:24]), self.assertRaises(Lost):
                IpLink(*self.serve(answers))

    def test_a_device_that_drips_is_given_up(self):
        with FieldPhone([{"label": "Inner", "kind": "inner"}], PhoneFaults(
                made_up=1, size=1 << 20, drips=True)) as phone:
            phone.open()
            port = int(phone.address.rpartition(":")[2])
            with mock.patch.object(link_ip, "CALL_SECONDS", 3.0):
                session = Session(IpLink("127.0.0.1", port))
                handle = session.handles(0x10001)[-1]
                with self.assertRaises(Lost) as told:
                    session.fetch(Item(handle, size=1 << 20), 0, io.BytesIO(), lambda part: None)
                session.close()
            self.assertEqual(told.exception.why, "too-slow")

    @examples(300)
    @given(st.binary(max_size=400))
    def test_datasets_of_any_bytes(self, data):
        for read in (datasets.device_from, datasets.numbers_from,
                     lambda d: datasets.store_from(1, d), lambda d: datasets.item_from(1, d),
                     lambda d: list(datasets.items_from(d))):
            with contextlib.suppress(FormatError):
                read(data)

    @given(st.text(max_size=80))
    def test_strings_as_they_are_sent(self, text):
        plain = text.replace("\0", "").encode("utf-16-le", "replace").decode("utf-16-le")
        self.assertEqual(datasets.Reader(datasets.text(plain)).string(), plain)

    def test_dates(self):
        for date, wanted in (
                ("20310512T105947", "2031-05-12T10:59:47"),
                ("20310512T105947.0Z", "2031-05-12T10:59:47Z"),
                ("20310512T105947+0130", "2031-05-12T10:59:47+01:30"),
                ("20311312T105947", None), ("", None), ("yesterday", None),
                ("00000000T000000", None)):
            self.assertEqual(date_text(date), wanted, date)


if __name__ == "__main__":
    unittest.main()
