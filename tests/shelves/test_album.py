"""The album against its simulated service: signing in, pages, faults, and what is never told."""

from __future__ import annotations

import datetime as dt
import http.server
import json
import os
import random
import ssl
import threading
import time
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from needlewright.core import kept_open, secrets
from needlewright.core.errors import SourceError
from needlewright.core.search.events import Note
from needlewright.core.shelves import wire
from needlewright.core.shelves.albums import client
from needlewright.core.shelves.item_shelf import ItemShelf
from needlewright.standins.album.content import PASSWORD, USER
from needlewright.standins.album.faults import AlbumFaults, code_at
from needlewright.standins.album.start import SurveyAlbum
from tests.shelves.support import ShelfTest, photo, sha256

WHEN = 1_936_500_000
NAMES = [f"FP_{n:04}.jpg" for n in range(8)]


class AlbumTest(ShelfTest):
    def setUp(self) -> None:
        super().setUp()
        known = mock.patch.dict(os.environ, {"NEEDLEWRIGHT_ALBUMS": str(self.folder / "albums")})
        known.start()
        self.addCleanup(known.stop)
        self.addCleanup(client._SESSIONS.clear)
        self.quickly()

    def known(self, address: str) -> str:
        (self.folder / "albums").mkdir(exist_ok=True)
        (self.folder / "albums/survey.json").write_text(json.dumps(
            {"address": address, "user": USER}))
        return "album:survey"

    def items(self) -> list[dict[str, Any]]:
        place = self.folder / "album"
        place.mkdir(exist_ok=True)
        items = []
        for number, name in enumerate(NAMES):
            whole, small = photo(number), photo(number)[: 3000 + number]
            for what, data in (("original", whole), ("reduced", small), ("small", small)):
                (place / f"{number}-{what}").write_bytes(data)
            told: dict[str, Any] = {
                "id": f"i{number}", "path": f"Reeds/{name}", "created": WHEN, "modified": WHEN,
                "state": "present", "original": {"size": len(whole), "sha256": sha256(whole)},
                "reduced": {"size": len(small), "sha256": sha256(small)}}
            if number == 6:
                told |= {"state": "removed", "removed": int(time.time()),
                         "kept_until": int(time.time()) + 86_400 * 9 + 900}
            if number == 7:
                told |= {"state": "shared", "shared_by": "Weir Cottage"}
            items.append({"told": told, "files": {what: str(place / f"{number}-{what}") for what in
                                                  ("original", "reduced", "small")}})
        return items

    def album(self, **faults: object) -> SurveyAlbum:
        made = SurveyAlbum(self.items(), AlbumFaults(**faults))
        self.addCleanup(made.close)
        self.spec = self.known(made.address)
        secrets.keep(self.spec, secrets.Secret(PASSWORD))
        secrets.asked_by(lambda spec, what, wrong: made.code() if what == "code" else None)
        return made

    def whole(self) -> None:
        """Every original came, byte for byte."""
        found = {p.stat().st_size: sha256(p.read_bytes())
                 for p in (self.folder / "job/brought").iterdir()}
        self.assertEqual(found, {len(photo(n)): sha256(photo(n)) for n in range(len(NAMES))})

    def test_what_there_is_and_originals_first(self):
        self.album(reduced=[NAMES[2]], lost=[NAMES[3]])
        _, out, _ = self.command("inside", self.spec, "--json")
        told = {one["name"]: one for one in json.loads(out)["files"]}
        self.assertEqual((told[NAMES[6]]["removed"], told[NAMES[7]]["shared_by"]),
                         (True, "Weir Cottage"))
        self.assertTrue(told[NAMES[2]]["reduced"])
        self.assertEqual(told[NAMES[3]]["state"], "missing")
        self.brought(self.spec)
        rows = {row.name: row for row in self.finds().values()}
        self.assertEqual((rows[NAMES[0]].grade, rows[NAMES[3]].grade), ("whole", "gone"))
        self.assertNotEqual(rows[NAMES[2]].grade, "whole")
        self.assertIn("shelf-reduced", self.checks(rows[NAMES[2]].id))
        self.assertEqual((rows[NAMES[6]].removed, rows[NAMES[6]].kept), (True, "service-trash"))

    def test_fifty_faults_and_every_byte(self):
        """The connection breaks fifty times, sessions end, the service asks to come later."""
        chance = random.Random(9)
        drops = [chance.randrange(1, 5000) for _ in range(50)]
        album = self.album(drops=drops, limits=17, retry=0.5, expires=11)
        self.brought(self.spec)
        self.whole()
        told = album.wish("state")
        self.assertGreater(told["limited"], 2)
        self.assertGreater(told["expired"], 3)
        self.assertEqual({row.grade for row in self.finds().values()}, {"whole"})

    def test_without_ranges(self):
        self.album(no_ranges=True, drops=[2000, 9000, 30_000])
        self.brought(self.spec)
        self.whole()

    def test_another_content_than_its_hash_says(self):
        self.album(wrong=[NAMES[4]])
        self.brought(self.spec)
        row = self.finds()[f"Reeds/{NAMES[4]}"]
        self.assertNotEqual(row.grade, "whole")
        self.assertEqual(self.checks(row.id)[0], "shelf-hash")

    def test_passwords_and_codes(self):
        album = self.album()
        secrets.forget(self.spec)
        heard = self.asked("wrong", PASSWORD, "000000", None)
        with self.assertRaises(SourceError) as caught, self.shelf(self.spec) as shelf:
            shelf.offered()
        self.assertEqual(caught.exception.code, "secret-wrong")
        self.assertEqual(heard, [("password", False), ("password", True), ("code", False),
                                 ("code", True)])
        heard = self.asked(album.code())
        with self.shelf(self.spec) as shelf:  # the password was right, and stays known
            self.assertEqual(len(shelf.offered()), len(NAMES))
        kept_open.let_all_go()
        with self.shelf(self.spec) as shelf:  # the session goes on
            self.assertEqual(len(shelf.offered()), len(NAMES))
        self.assertEqual(heard, [("code", False)])

    def test_codes_are_those_of_the_standard(self):
        """RFC 6238, appendix B: eight digits there, the last six of which are ours."""
        key = b"12345678901234567890"
        for seconds, code in ((59, "94287082"), (1111111109, "07081804"), (1234567890, "89005924"),
                              (20000000000, "65353130")):
            self.assertEqual(code_at(key, seconds), code[2:])

    def test_it_is_out_of_reach_for_a_while(self):
        album, bring, away = self.album(), ItemShelf.bring, list[int]()

        def leaving(shelf, offered, path, told):
            if offered.entry.path.endswith(NAMES[2]) and not away:
                away.append(1)
                album.wish("down")
                threading.Timer(0.5, album.wish, ("up",)).start()
            return bring(shelf, offered, path, told)

        with mock.patch.object(ItemShelf, "bring", leaving):
            events = self.brought(self.spec)
        self.assertIn("phone-waiting", [e.code for e in events if isinstance(e, Note)])
        self.whole()

    def test_services_that_are_none(self):
        for faults, code in (({"html": True}, "service-not-json"),
                             ({"endless": True}, "service-endless"),
                             ({"loops": True, "made_up": 3000}, "service-endless")):
            with self.subTest(code), mock.patch.object(wire, "MOST_ANSWER", 1 << 20):
                self.album(**faults)
                with mock.patch.dict(wire.Wire.ask.__kwdefaults__, {"most": 1 << 20}), \
                        self.assertRaises(SourceError) as caught, self.shelf(self.spec) as shelf:
                    shelf.offered()
                self.assertEqual(caught.exception.code, code)
                client._SESSIONS.clear()

    def test_one_that_always_puts_off(self):
        with mock.patch.object(client, "MOST_LIMITED", 3):
            self.album(limits=1, retry=0.5)
            with self.assertRaises(SourceError) as caught, self.shelf(self.spec) as shelf:
                shelf.offered()
        self.assertEqual(caught.exception.code, "shelf-limited")

    def test_nothing_is_followed_elsewhere(self):
        asked: list[str] = []

        class Elsewhere(http.server.BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                asked.append(self.headers.get("Authorization", ""))
                self.send_error(404)

        other = http.server.HTTPServer(("127.0.0.1", 0), Elsewhere)
        self.addCleanup(other.server_close)
        threading.Thread(target=other.serve_forever, daemon=True).start()
        self.addCleanup(other.shutdown)
        self.album(elsewhere=f"http://127.0.0.1:{other.server_port}/take")
        self.brought(self.spec)
        self.assertEqual({row.grade for row in self.finds().values()}, {"gone"})
        self.assertEqual(asked, [])

    def test_a_certificate_that_has_run_out(self):
        server = _tls_server(self.folder)
        self.addCleanup(server.server_close)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.shutdown)
        spec = self.known(f"https://127.0.0.1:{server.server_port}")
        secrets.keep(spec, secrets.Secret(PASSWORD))
        with self.assertRaises(SourceError) as caught, self.shelf(spec) as shelf:
            shelf.offered()
        self.assertEqual(caught.exception.code, "service-certificate")
        self.assertEqual(server.heard, [])  # type: ignore[attr-defined]

    def test_answers_that_make_no_sense(self):
        """Mutated pages: an error of ours, or items that are bounded."""
        chance = random.Random(3)
        page = json.dumps({"items": [one["told"] for one in self.items()], "next": None})
        for _ in range(300):
            broken = list(page)
            for _ in range(chance.choice((1, 4))):
                broken[chance.randrange(len(broken))] = chance.choice('{}[]",:-0e9nx')
            try:
                told = json.loads("".join(broken))
            except ValueError:
                continue
            for one in told.get("items", []) if isinstance(told, dict) and isinstance(
                    told.get("items"), list) else []:
                item = client._item(one)
                self.assertTrue(item is None or item.size is None or item.size >= 0)

    def test_fifty_thousand_come_in_pages(self):
        self.album(made_up=2600, no_code=True)
        pages: list[int] = []
        with self.shelf(self.spec) as shelf:
            shelf.look(lambda done, total: None, lambda some: pages.append(len(some)))
            self.assertEqual(len(shelf.offered()), 2600 + len(NAMES))
        self.assertEqual((pages[0], len(pages)), (500, 6))


def _tls_server(folder: Path) -> http.server.HTTPServer:
    """A server with a certificate of yesterday."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = dt.datetime.now(dt.UTC)
    made = (x509.CertificateBuilder().subject_name(name).issuer_name(name)
            .public_key(key.public_key()).serial_number(x509.random_serial_number())
            .not_valid_before(now - dt.timedelta(days=3))
            .not_valid_after(now - dt.timedelta(days=1)).sign(key, hashes.SHA256()))
    (folder / "cert.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    (folder / "key.pem").write_bytes(key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption()))
    heard: list[str] = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            heard.append(self.path)

    class Quiet(http.server.HTTPServer):
        def handle_error(self, *_: object) -> None:
            """Whoever refuses the certificate hangs up."""

    server = Quiet(("127.0.0.1", 0), Handler)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "cert.pem", folder / "key.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.heard = heard  # type: ignore[attr-defined]
    return server


if __name__ == "__main__":
    unittest.main()
