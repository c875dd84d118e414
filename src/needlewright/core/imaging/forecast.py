"""A few seconds of sampling, before hours of work: what a medium holds, and whether it is worth it.

Never done by itself: a dying medium is not to be sampled. It ends at the first read that fails or
is slow, and says so. Reads go through the reader process, so that none can hang the caller.
"""

from __future__ import annotations

import math
import time
from collections import Counter
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.codes import BlockContent, Stopped
from needlewright.core.imaging.planner import Queue, Read
from needlewright.core.imaging.reader import ReaderProcess
from needlewright.core.stopping import StopSignal

SAMPLE_BYTES = 4096
SECONDS = 5.0
MAX_SAMPLES = 4096  # make intervals of two percent; more would only tire the medium
BURST_BYTES = 1 << 20
BURSTS = 6  # reads that tell the speed, spread over the medium
SLOW_SECONDS = 0.7
GOLDEN = (math.sqrt(5) - 1) / 2
Z95 = 1.959964
HEAD_BLOCKS = 8  # blocks near the start that a wrapping address would show again
SIGNATURES_RATE = 4e8  # bytes a second that the signature step looks at in an image, cautiously
# Chi-squared of byte counts against equal ones: 255 degrees of freedom, deviation 22.6.
CHI_RANDOM = 255 + 4 * 22.6
CHI_POOLED = 255 + 6 * 22.6


@dataclass(frozen=True, slots=True)
class Share:
    """A part of the medium with its 95 % interval, each 0.0 to 1.0."""

    part: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Forecast:
    """`shares` by content; `samples`; `seconds` it took; why it `stopped` and where (bytes);
    `bytes_per_second` of large reads; `wraps_at`: the real capacity of a card that claims more."""

    size: int
    shares: dict[BlockContent, Share]
    samples: int
    seconds: float
    stopped: Stopped
    stopped_at: int | None
    bytes_per_second: float | None
    wraps_at: int | None
    first_random: bool

    @property
    def copy_seconds(self) -> float | None:
        return self.size / self.bytes_per_second if self.bytes_per_second else None

    @property
    def signature_seconds(self) -> float:
        return self.size / SIGNATURES_RATE


def content_of(block: npt.NDArray[np.uint8]) -> BlockContent:
    """What a block of some thousand bytes uint8[n] looks like."""
    first = block[0]
    if first in (0, 0xFF) and not (block != first).any():
        return BlockContent.BLANK
    counts = np.bincount(block, minlength=256)
    shares = counts[counts > 0] / block.size
    entropy = float(-(shares * np.log2(shares)).sum())
    if entropy < 7.0:
        plain = counts[32:127].sum() + counts[[9, 10, 13]].sum() + counts[0xC2:0xF5].sum()
        return BlockContent.TEXT if plain > 0.95 * block.size else BlockContent.STRUCTURED
    marks = np.flatnonzero(block[:-1] == 0xFF)
    if marks.size >= 4:
        behind = block[marks + 1]
        if ((behind == 0) | ((behind >= 0xD0) & (behind <= 0xD7))).all():
            return BlockContent.MEDIA  # stuffing (T.81 B.1.1.5): hardly ever in anything else
    return BlockContent.RANDOM if _chi(counts) < CHI_RANDOM else BlockContent.MEDIA


def _chi(counts: npt.NDArray[np.int64]) -> float:
    usual = counts.sum() / 256
    return float(((counts - usual) ** 2).sum() / usual)


def interval(found: int, samples: int) -> Share:
    """A share with its 95 % interval (Wilson's score interval)."""
    if samples == 0:
        return Share(0.0, 0.0, 1.0)
    part = found / samples
    middle = (part + Z95**2 / (2 * samples)) / (1 + Z95**2 / samples)
    half = Z95 / (1 + Z95**2 / samples) * math.sqrt(
        part * (1 - part) / samples + Z95**2 / (4 * samples**2))
    return Share(part, max(0.0, middle - half), min(1.0, middle + half))


def forecast(spec: str, stop: StopSignal, seconds: float = SECONDS) -> Forecast:
    """Sample the medium at `spec` for at most about `seconds`; SourceError if it does not open."""
    reader = ReaderProcess(spec)
    sampler = _Sampler(reader, stop)
    try:
        sampler.run(seconds)
    finally:
        if sampler.silent:
            reader.abandon()
        else:
            reader.close()
    return sampler.result()


class _Enough(Exception):
    """Sampling ends here, for a reason."""


class _Sampler:
    def __init__(self, reader: ReaderProcess, stop: StopSignal) -> None:
        self.reader, self.stop = reader, stop
        self.size = reader.origin.size
        self.found: Counter[BlockContent] = Counter()
        self.pooled = np.zeros(256, np.int64)
        self.rates: list[float] = []
        self.stopped = Stopped.TIME
        self.stopped_at: int | None = None
        self.silent = self.first_random = False
        self.wraps_at: int | None = None
        self.took, self.until = 0.0, 0.0

    def run(self, seconds: float) -> None:
        began = time.monotonic()
        self.until = began + seconds
        try:
            self._look_at_start()
            self._measure_speed()
            blocks = max(1, self.size // SAMPLE_BYTES)
            # A stride near the golden ratio spreads any number of samples evenly, none twice.
            stride = max(1, round(blocks * GOLDEN))
            while math.gcd(stride, blocks) != 1:
                stride += 1
            for index in range(min(MAX_SAMPLES, blocks)):
                self._sample(index * stride % blocks * SAMPLE_BYTES)
        except _Enough:
            pass
        self.took = time.monotonic() - began

    def _look_at_start(self) -> None:
        """Whether data begins at once like noise, and whether the address wraps round."""
        heads = {}
        for number in range(HEAD_BLOCKS):
            place = number * 64 * SAMPLE_BYTES
            if place + SAMPLE_BYTES <= self.size // 4:
                heads[place] = self._read(place, SAMPLE_BYTES)
        kinds = [content_of(block) for block in heads.values() if block.size]
        self.first_random = bool(kinds) and all(kind is BlockContent.RANDOM for kind in kinds)
        telling = {place: block for place, block in heads.items()
                   if block.size and content_of(block) is not BlockContent.BLANK}
        if len(telling) >= 2:
            self._find_wrap(telling)

    def _find_wrap(self, heads: dict[int, npt.NDArray[np.uint8]]) -> None:
        """A card that claims too much shows its start again at its real capacity."""
        places = {self.size >> shift for shift in range(1, 8)}
        places |= {1 << power for power in range(27, 45)} | {10**9 << p for p in range(11)}
        for real in sorted(p // SAMPLE_BYTES * SAMPLE_BYTES for p in places):
            same = 0
            for place, block in list(heads.items())[:2]:
                if real < SAMPLE_BYTES or real + place + SAMPLE_BYTES > self.size:
                    break
                if not np.array_equal(self._read(real + place, SAMPLE_BYTES), block):
                    break
                same += 1
            if same == 2:
                self.wraps_at = real
                return

    def _measure_speed(self) -> None:
        for number in range(BURSTS):
            length = min(BURST_BYTES, self.size)
            place = (self.size - length) * number // BURSTS // SAMPLE_BYTES * SAMPLE_BYTES
            began = time.monotonic()
            got = self._read(place, length).size
            self.rates.append(got / max(1e-6, time.monotonic() - began))

    def _sample(self, place: int) -> None:
        block = self._read(place, min(SAMPLE_BYTES, self.size))
        kind = content_of(block)
        self.found[kind] += 1
        if kind is BlockContent.RANDOM:
            self.pooled += np.bincount(block, minlength=256)

    def _read(self, offset: int, length: int) -> npt.NDArray[np.uint8]:
        if self.stop.is_set():
            self._end(Stopped.ASKED, offset)
        if time.monotonic() > self.until:
            self._end(Stopped.TIME, None)
        self.reader.ask(Read(offset, length, Queue.FRESH, 1.0, 1))
        answer = self.reader.answer(2 * SLOW_SECONDS)
        if answer is None:
            self.silent = True
            self._end(Stopped.SLOW, offset)
        elif answer.outcome != "read" or len(answer.data) < length:
            self._end(Stopped.FAILED, offset)
        elif answer.seconds > SLOW_SECONDS:
            self._end(Stopped.SLOW, offset)
        assert answer is not None
        return np.frombuffer(bytes(answer.data), np.uint8)

    def _end(self, why: Stopped, where: int | None) -> None:
        self.stopped, self.stopped_at = why, where
        raise _Enough

    def result(self) -> Forecast:
        # Many blocks that each might be noise are told apart together: compressed data is not
        # quite even, encrypted data is.
        if self.found[BlockContent.RANDOM] > 1 and _chi(self.pooled) > CHI_POOLED:
            self.found[BlockContent.MEDIA] += self.found.pop(BlockContent.RANDOM)
            self.first_random = False
        total = sum(self.found.values())
        rate = float(np.median(self.rates)) if self.rates else None
        return Forecast(
            self.size, {kind: interval(self.found[kind], total) for kind in BlockContent}, total,
            self.took, self.stopped, self.stopped_at, rate, self.wraps_at, self.first_random)
