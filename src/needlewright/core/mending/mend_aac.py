"""AAC in ADTS frames with foreign or missing bytes: its frames, one behind another (ISO/IEC
14496-3, 1.A.2.2).
"""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.kernels.sound_frames import ADTS
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Pieces, left_out, writing
from needlewright.core.mending.streams.sound_frames import runs_of


def mend(patient: Patient) -> Iterator[Mended]:
    runs = runs_of(patient, ADTS, 0)
    first, last = runs.runs[0].starts[0], runs.runs[-1].stop
    if len(runs.runs) == 1 and first == 0 and last == patient.source.size:
        raise Unmendable("nothing-found")
    pieces, number, times = Pieces(), 0, []
    for run in runs.runs:
        pieces.add((run.starts[0], run.stop))
        number += len(run.starts)
        times.append((number * runs.seconds, (number + 1) * runs.seconds))
    changes = [Change("frames-joined", {"count": runs.frames, "times": len(runs.runs)}),
               *left_out(runs.dropped, times[:-1])]
    share = runs.frames / (runs.frames + runs.dropped)
    yield Mended(writing(patient.source, pieces.pieces), "aac", tuple(changes), share)


register(Mender("aac", frozenset(("aac",)), mend))
