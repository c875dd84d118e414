"""PTP over USB against exchanges as a phone has them, byte for byte; no device is at hand."""

from __future__ import annotations

import io
import struct
import unittest

from needlewright.core.phones import codes, link_usb
from needlewright.core.phones.datasets import Item
from needlewright.core.phones.link import Lost, Outgoing
from needlewright.core.phones.link_usb import COMMAND, DATA, EVENT, PACKET, RESPONSE, UsbLink
from needlewright.core.phones.session import Session
from tests.support import noise

#: What a phone told of itself: DeviceInfo with five operations, four names.
DEVICE = bytes.fromhex("6400060000006400 00 0000 05000000 01100210041007100910"
                       "00000000 00000000 00000000 00000000".replace(" ", ""))
DEVICE += b"".join(struct.pack("B", len(t) + 1) + (t + "\0").encode("utf-16-le")
                   for t in ("Fernbeck", "Reedbank F2", "1.0", "FB0042"))


def container(kind: int, code: int, number: int, body: bytes = b"",
              length: int | None = None) -> bytes:
    return struct.pack("<IHHI", 12 + len(body) if length is None else length, kind, code,
                       number) + body


class Recorded:
    """Plays what a device said; notes what it was told."""

    def __init__(self, *transfers: bytes) -> None:
        self.transfers, self.told, self.closed = list(transfers), [], False

    def write(self, data: bytes) -> None:
        self.told.append(data)

    def read(self, length: int) -> bytes:
        if not self.transfers:
            raise Lost("silent")
        whole = self.transfers.pop(0)
        room = -(-length // PACKET) * PACKET
        if len(whole) > room:
            self.transfers.insert(0, whole[room:])
        return whole[:room]

    def close(self) -> None:
        self.closed = True


def opening() -> list[bytes]:
    return [container(DATA, codes.GET_DEVICE_INFO, 0, DEVICE), container(RESPONSE, codes.OK, 0),
            container(RESPONSE, codes.OK, 0)]


class UsbTest(unittest.TestCase):
    def session(self, *transfers: bytes) -> tuple[Session, Recorded]:
        pipes = Recorded(*opening(), *transfers)
        return Session(UsbLink(pipes)), pipes

    def fetched(self, size: int | None, *transfers: bytes) -> bytes:
        session, _ = self.session(*transfers)
        out = io.BytesIO()
        session.fetch(Item(7, size=size), 0, out, lambda part: None)
        return out.getvalue()

    def test_data_without_a_length_may_be_longer_than_a_length_can_say(self):
        block = bytes(1 << 19)

        class Endless:
            left = (4 << 30) // len(block) + 3

            def read(self, length):
                self.left -= 1
                return block if self.left > 0 else b"" if self.left < 0 else b"end"

        got = []
        link = UsbLink(Endless())
        link._take(block, link_usb.UNSTATED, lambda part: got.append(len(part)), 1e300)
        self.assertGreater(sum(got), 4 << 30)

    def test_a_session_from_its_first_to_its_last_word(self):
        session, pipes = self.session(
            container(EVENT, 0x4004, 0), container(DATA, codes.GET_STORAGE_IDS, 1, bytes(4)),
            container(RESPONSE, codes.OK, 1), container(RESPONSE, codes.OK, 2))
        self.assertEqual((session.device.model, session.device.serial), ("Reedbank F2", "FB0042"))
        self.assertEqual(session.stores(), [])
        session.close()
        self.assertTrue(pipes.closed)
        self.assertEqual(pipes.told, [
            container(COMMAND, codes.GET_DEVICE_INFO, 0),
            container(COMMAND, codes.OPEN_SESSION, 0, struct.pack("<I", 1)),
            container(COMMAND, codes.GET_STORAGE_IDS, 1),
            container(COMMAND, codes.CLOSE_SESSION, 2)])

    def test_objects_in_one_container_in_two_and_of_no_stated_length(self):
        data = noise(1_300_000, 3)
        whole = container(DATA, codes.GET_OBJECT, 1, data)
        end = container(RESPONSE, codes.OK, 1)
        self.assertEqual(self.fetched(len(data), whole, end), data)
        self.assertEqual(self.fetched(len(data), whole[:12], data, end), data)
        unstated = container(DATA, codes.GET_OBJECT, 1, data, 0xFFFFFFFF)
        self.assertEqual(self.fetched(None, unstated, end), data)
        even = noise(PACKET * 40 - 12, 4)  # ends with a packet: an empty transfer says so
        unstated = container(DATA, codes.GET_OBJECT, 1, even, 0xFFFFFFFF)
        self.assertEqual(self.fetched(None, unstated, b"", end), even)

    def test_data_that_is_sent(self):
        """One container over many transfers, of whole packets but for the last."""
        for size in (0, 1, 499, 500, 512, (1 << 19) - 12, 1 << 19, (1 << 20) + 77):
            data = bytes(n * 7 & 0xFF for n in range(1000)) * (size // 1000 + 1)
            session, pipes = self.session(
                container(RESPONSE, codes.OK, 1, struct.pack("<3I", 1, 2, 77)),
                container(RESPONSE, codes.OK, 2))
            del pipes.told[:]
            self.assertEqual(
                session.put(1, 2, "BF_1.JPG", 0x3801, Outgoing.of(data[:size]), ""), 77)
            described = container(DATA, codes.SEND_OBJECT_INFO, 1)[4:]  # behind its length
            self.assertEqual(pipes.told[1][4:18], described + struct.pack("<IH", 1, 0x3801))
            sent = pipes.told[3:]  # behind what it is called, and what is asked
            self.assertEqual(b"".join(sent), container(DATA, codes.SEND_OBJECT, 2, data[:size]))
            self.assertTrue(all(len(part) % PACKET == 0 for part in sent[:-1]))
            self.assertTrue(len(sent[-1]) % PACKET or not sent[-1])

    def test_what_a_device_must_not_say(self):
        data = noise(5000, 5)
        end = container(RESPONSE, codes.OK, 1)
        for why, transfers in (
                ("another-answer", (container(DATA, codes.GET_OBJECT, 9, data), end)),
                ("wrong-length", (container(DATA, codes.GET_OBJECT, 1, data[:4000], 5012), b"")),
                ("wrong-length", (container(DATA, codes.GET_OBJECT, 1, data[:4000]), end)),
                ("no-ptp", (b"abc",)), ("no-ptp", (struct.pack("<IHHI", 4, DATA, 1, 1),)),
                ("out-of-turn", (container(COMMAND, 1, 1),)), ("silent", ())):
            with self.subTest(why), self.assertRaises(Lost) as told:
                self.fetched(5000, *transfers)
            self.assertEqual(told.exception.why, why)


if __name__ == "__main__":
    unittest.main()
