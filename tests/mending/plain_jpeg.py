"""A plain decoder of sequential JPEG data (ITU-T T.81, F.2), bit by bit, that shares no code with
ours."""

from __future__ import annotations

import struct


class PlainJpeg:
    """Tables and coefficients of a JPEG with one interleaved scan and no restart markers.

    `mcus`: for each MCU its blocks in coded order, 64 quantised coefficients each in zig-zag order.
    """

    def __init__(self, data: bytes) -> None:
        self.codes: dict[tuple[int, int], dict[tuple[int, int], int]] = {}
        self.components: list[tuple[int, int, int, int]] = []
        self.mcus: list[list[list[int]]] = []
        at = 2
        while data[at + 1] != 0xDA:
            marker, size = data[at + 1], struct.unpack_from(">H", data, at + 2)[0]
            body = data[at + 4 : at + 2 + size]
            if marker == 0xC4:
                self._tables(body)
            elif marker in (0xC0, 0xC1):
                self.height, self.width = struct.unpack_from(">HH", body, 1)
                for index in range(body[5]):
                    name, sampling, quantiser = body[6 + 3 * index : 9 + 3 * index]
                    self.components.append((name, sampling >> 4, sampling & 15, quantiser))
            at += 2 + size
        size = struct.unpack_from(">H", data, at + 2)[0]
        chosen = data[at + 5 : at + 5 + 2 * len(self.components)]
        self.tables = {chosen[2 * i]: (chosen[2 * i + 1] >> 4, chosen[2 * i + 1] & 15)
                       for i in range(len(self.components))}
        self._scan(data[at + 2 + size :])

    def _tables(self, body: bytes) -> None:
        at = 0
        while at < len(body):
            place, counts = (body[at] >> 4, body[at] & 15), body[at + 1 : at + 17]
            symbols = iter(body[at + 17 : at + 17 + sum(counts)])
            code, table = 0, {}
            for length, count in enumerate(counts, 1):
                for _ in range(count):
                    table[length, code] = next(symbols)
                    code += 1
                code <<= 1
            self.codes[place] = table
            at += 17 + sum(counts)

    def _scan(self, raw: bytes) -> None:
        end = next(i for i in range(len(raw)) if raw[i] == 0xFF and raw[i + 1] != 0)
        clean = raw[:end].replace(b"\xff\0", b"\xff")
        self._bits = "".join(f"{byte:08b}" for byte in clean)
        self._at = 0
        wide = 8 * max(c[1] for c in self.components)
        high = 8 * max(c[2] for c in self.components)
        before = dict.fromkeys((c[0] for c in self.components), 0)
        for _ in range(-(-self.width // wide) * -(-self.height // high)):
            mcu = []
            for name, across, down, _ in self.components:
                for _ in range(across * down):
                    block = self._block(*self.tables[name])
                    before[name] += block[0]
                    block[0] = before[name]
                    mcu.append(block)
            self.mcus.append(mcu)

    def _symbol(self, table: dict[tuple[int, int], int]) -> int:
        code = 0
        for length in range(1, 17):
            code = code << 1 | int(self._bits[self._at])
            self._at += 1
            if (length, code) in table:
                return table[length, code]
        raise ValueError("no such code")

    def _value(self, size: int) -> int:
        if size == 0:
            return 0
        value = int(self._bits[self._at : self._at + size], 2)
        self._at += size
        return value if value >> (size - 1) else value - (1 << size) + 1

    def _block(self, dc: int, ac: int) -> list[int]:
        block = [0] * 64
        block[0] = self._value(self._symbol(self.codes[0, dc]))
        k = 1
        while k < 64:
            symbol = self._symbol(self.codes[1, ac])
            if symbol == 0:
                break
            k += symbol >> 4
            if symbol & 15:
                block[k] = self._value(symbol & 15)
            k += 1
        return block
