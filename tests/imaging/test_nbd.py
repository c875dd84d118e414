"""Network block devices against a server that is told what to say: refusals, lies, block sizes."""

import socket
import struct
import threading
import unittest
import unittest.mock

from needlewright.core.errors import SourceError
from needlewright.core.sources.nbd import Address, NbdSource, exports
from needlewright.core.sources.open_nbd import address_of, with_name
from tests.support import noise

DATA = noise(100_000, 11)
OPTION_REPLY = 0x0003_E889_0455_65A9


class Server:
    """One connection, answered by the NBD protocol's text; `says` may change any answer."""

    def __init__(self, **says):
        self.says = {"flags": 1, "go": True, "block": (1, 4096, 1 << 25), "error": 0, "cut": None,
                     "greeting": b"NBDMAGICIHAVEOPT", "cookie": 0, **says}
        self.asked, self.options = [], []
        self._ours, self.theirs = socket.socketpair()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _take(self, length):
        block = b""
        while len(block) < length:
            part = self._ours.recv(length - len(block))
            if not part:
                raise EOFError
            block += part
        return block

    def _reply(self, option, kind, data=b""):
        self._ours.sendall(struct.pack(">QIII", OPTION_REPLY, option, kind, len(data)) + data)

    def _run(self):
        try:
            self._ours.sendall(self.says["greeting"] + struct.pack(">H", self.says["flags"]))
            self._take(4)
            while self._option():
                pass
            while True:
                self._request()
        except (EOFError, OSError):
            pass
        finally:
            self._ours.close()

    def _option(self):
        _, option, length = struct.unpack(">8sII", self._take(16))
        self._take(length)
        self.options.append(option)
        if option == 3:
            for name in self.says.get("names", ("card", "spare")):
                raw = name.encode()
                self._reply(3, 2, struct.pack(">I", len(raw)) + raw)
            self._reply(3, 1)
        elif option == 1:
            self._ours.sendall(struct.pack(">QH", len(DATA), 3))
            return False
        elif not self.says["go"]:
            self._reply(option, (1 << 31) + 1)
        elif "refuses" in self.says:
            self._reply(option, (1 << 31) + self.says["refuses"])
        else:
            self._reply(option, 3, struct.pack(">HQH", 0, self.says.get("size", len(DATA)), 3))
            self._reply(option, 3, struct.pack(">HIII", 3, *self.says["block"]))
            self._reply(option, 1)
            return False
        return True

    def _request(self):
        magic, _, kind, cookie, offset, length = struct.unpack(">IHHQQI", self._take(28))
        self.asked.append((magic, kind, offset, length))
        if kind == 2:
            raise EOFError
        error = self.says["error"]
        self._ours.sendall(struct.pack(">IIQ", 0x67446698, error, cookie + self.says["cookie"]))
        if not error:
            self._ours.sendall(DATA[offset : offset + length][: self.says["cut"]])
        if self.says["cut"] is not None:
            raise EOFError

    def stop(self):
        self.theirs.close()
        self._thread.join(10)


class NbdTest(unittest.TestCase):
    def server(self, **says):
        server = Server(**says)
        self.addCleanup(server.stop)
        made = unittest.mock.patch("needlewright.core.sources.nbd._connect",
                                   lambda address: server.theirs)
        made.start()
        self.addCleanup(made.stop)
        return server

    def opened(self, **says):
        server = self.server(**says)
        return server, NbdSource(Address("card", "weir", url="nbd://weir/card"))

    def refused(self, code, **says):
        self.server(**says)
        with self.assertRaises(SourceError) as raised:
            NbdSource(Address("card", "weir", url="nbd://weir/card")).read_at(0, 5000)
        self.assertEqual(raised.exception.code, code)
        return raised.exception.values

    def test_the_same_bytes_and_nothing_but_reads(self):
        server, source = self.opened(block=(1, 4096, 30_000))
        self.assertEqual(source.size, len(DATA))
        self.assertEqual(source.read_at(0, 1 << 20), DATA)
        self.assertEqual(source.read_at(99_990, 50), DATA[99_990:])
        self.assertEqual(source.read_at(100_000, 1), b"")
        source.close()
        server.stop()
        self.assertEqual({(magic, kind) for magic, kind, _, _ in server.asked},
                         {(0x25609513, 0), (0x25609513, 2)})
        self.assertTrue(all(length <= 30_000 for _, _, _, length in server.asked))

    def test_block_sizes_are_kept_to(self):
        server, source = self.opened(block=(4096, 4096, 16_384))
        self.assertEqual(source.read_at(5000, 20_000), DATA[5000:25_000])
        self.assertEqual((source.sector_size, source.block_size), (4096, 4096))
        for _, _, offset, length in server.asked:
            self.assertEqual(offset % 4096, 0)
            self.assertTrue(length % 4096 == 0 or offset + length == len(DATA))
        for wrong in ((0, 0, 0), (3, 4096, 1 << 20), (1 << 30, 1 << 30, 1 << 30)):
            _, odd = self.opened(block=wrong)
            self.assertEqual(odd.read_at(7, 3000), DATA[7:3007])

    def test_the_older_way_in(self):
        server, source = self.opened(go=False, flags=3)
        self.assertEqual(source.read_at(10, 100), DATA[10:110])
        self.assertEqual(server.options, [7, 1])

    def test_refusals_and_lies_are_told(self):
        self.assertEqual(self.refused("nbd-refused", refuses=6)["reason"], "no export of this name")
        self.refused("nbd-protocol", greeting=b"NBDMAGIC" + struct.pack(">Q", 0x420281861253))
        self.refused("nbd-protocol", greeting=b"HTTP/1.1 400 Bad")
        self.refused("source-empty", size=0)
        self.assertEqual(self.refused("source-range", error=5)["start"], 0)
        self.refused("source-gone", error=108)
        self.refused("source-gone", cut=100)
        self.refused("source-gone", cookie=1)

    def test_what_a_server_offers(self):
        self.server(names=("card", "Fernbeck – Süd"))
        self.assertEqual(exports(Address("", "weir")), ["card", "Fernbeck – Süd"])
        self.server(names=[f"card {n}" for n in range(3000)])
        self.assertLessEqual(len(exports(Address("", "weir"))), 1024)

    def test_addresses(self):
        for url, want in (("nbd://weir/card", ("card", "weir", 10809, "")),
                          ("nbd://weir:99/a%20b", ("a b", "weir", 99, "")),
                          ("nbd://[::1]/x", ("x", "::1", 10809, "")),
                          ("nbd+unix:///card?socket=/run/s", ("card", "", 10809, "/run/s"))):
            found = address_of(url)
            self.assertEqual((found.name, found.host, found.port, found.path), want)
            self.assertEqual(address_of(with_name(found, "o/ther")).name, "o/ther")
        for wrong in ("nbd://", "nbd://weir:port/x", "nbd+unix:///card", "nbd+unix:///c?socket=s"):
            with self.assertRaises(SourceError):
                address_of(wrong)


if __name__ == "__main__":
    unittest.main()
