"""Whether the frames of a clip that is put together decode across a seam: asked of a decoder."""

from __future__ import annotations

from needlewright.core.checks.asking import ask
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool, use_of
from needlewright.core.decoders import PLAYED, Decoder, Task
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import Extents
from needlewright.core.stopping import Interrupted, StopSignal


class TrialDecodes:
    """See `base.Decodes`; `source` is what the extents are of. Interrupted when told to stop, by a
    signal that may be another one from call to call."""

    def __init__(self, source: Source, stop: StopSignal) -> None:
        self._source, self.stop, self._use = source, stop, use_of("stitching", source)
        self._pool: DecoderPool[int] = DecoderPool(1, use=self._use)

    def __call__(self, extents: Extents, start: float, stop: float,
                 decoder: str = Decoder.CLIP) -> bool:
        thread = PiecedSource(self._source, extents)
        clip = decoder in PLAYED
        request = DecodeRequest(
            thread, ((0, thread.size),), Decoder.CLIP if clip else decoder, 0,
            task=Task.STRETCH if clip or decoder == Decoder.HEIF else Task.PICTURE,
            seconds=start, until=stop)
        try:
            return ask(self._pool, 0, request, self.stop)[1].ok
        except Interrupted:
            self.close()  # an answer that is still to come belongs to no later question
            self._pool = DecoderPool(1, use=self._use)
            raise

    def close(self) -> None:
        self._pool.close()
