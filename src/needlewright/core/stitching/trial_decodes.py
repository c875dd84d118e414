"""Whether the frames of a clip that is put together decode across a seam: asked of a decoder."""

from __future__ import annotations

from needlewright.core.checks.asking import ask
from needlewright.core.checks.decoding import STRETCH, DecodeRequest, DecoderPool
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import Extents
from needlewright.core.stopping import Interrupted, StopSignal


class TrialDecodes:
    """Called with the extents of a file on `source`, from one second to another; Interrupted when
    told to stop. `stop` may be another signal from one call to the next."""

    def __init__(self, source: Source, stop: StopSignal) -> None:
        self._source, self.stop = source, stop
        self._pool: DecoderPool[int] = DecoderPool(1)

    def __call__(self, extents: Extents, start: float, stop: float) -> bool:
        thread = PiecedSource(self._source, extents)
        request = DecodeRequest(thread, ((0, thread.size),), "CLIP", 0, task=STRETCH,
                                seconds=start, until=stop)
        try:
            return ask(self._pool, 0, request, self.stop)[1].ok
        except Interrupted:
            self.close()  # an answer that is still to come belongs to no later question
            self._pool = DecoderPool(1)
            raise

    def close(self) -> None:
        self._pool.close()
