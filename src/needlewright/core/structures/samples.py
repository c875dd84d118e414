"""Do the samples of a clip look like what their track says they are?

The sources name what stands at a sample's start: NAL units (ISO/IEC 14496-15), MPEG-4 Visual start
codes (ISO/IEC 14496-2, 6.2.1), JPEG (ITU-T T.81), ProRes frames (SMPTE RDD 36, 5.1).
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.nal import AVC, HEVC, check_samples
from needlewright.core.structures.bmff_samples import Track
from needlewright.core.structures.view import View

GROUP_BYTES = 4 << 20
MAX_SAMPLE_BYTES = 32 << 20
NAL_CODINGS = {
    b"avc1": AVC, b"avc3": AVC, b"dvav": AVC, b"dva1": AVC,
    b"hvc1": HEVC, b"hev1": HEVC, b"dvh1": HEVC, b"dvhe": HEVC,
}
STARTS: dict[bytes, tuple[int, tuple[bytes, ...]]] = {
    b"mp4v": (0, (b"\0\0\x01",)),
    b"jpeg": (0, (b"\xff\xd8",)), b"mjpa": (0, (b"\xff\xd8",)), b"mjpb": (4, (b"mjpg",)),
    **dict.fromkeys((b"apcn", b"apch", b"apcs", b"apco", b"ap4h", b"ap4x"), (4, (b"icpf",))),
}
HEAD_BYTES = 16


def judged(track: Track) -> bool:
    """Whether the samples of this coding show anything at all without being decoded."""
    return (track.coding in NAL_CODINGS and track.length_bytes > 0) or track.coding in STARTS


def good_samples(view: View, track: Track) -> npt.NDArray[np.bool_]:
    """bool[samples]: which samples lie inside the view and look like their coding."""
    stops = track.offsets + track.sizes
    good = (track.offsets >= view.start) & (stops <= view.stop) & (track.sizes >= 0)
    if track.coding in NAL_CODINGS and track.length_bytes:
        coding = NAL_CODINGS[track.coding]
        for indices, base, data in _groups(view, track, good):
            good[indices] = check_samples(
                data, track.offsets[indices] - base, track.sizes[indices], track.length_bytes,
                coding)
    elif track.coding in STARTS:
        at, known = STARTS[track.coding]
        for index in np.flatnonzero(good & (track.sizes > HEAD_BYTES)).tolist():
            head = view.peek(int(track.offsets[index]), HEAD_BYTES)
            good[index] = head[at:].startswith(known)
    return good


def _groups(view: View, track: Track, inside: npt.NDArray[np.bool_]) -> Iterator[
        tuple[npt.NDArray[np.int64], int, npt.NDArray[np.uint8]]]:
    """(sample indices, absolute start, bytes) of stretches that can be read at once."""
    order = np.flatnonzero(inside & (track.sizes <= MAX_SAMPLE_BYTES))
    order = order[np.argsort(track.offsets[order], kind="stable")]
    first = 0
    while first < order.size:
        base = int(track.offsets[order[first]])
        last = int(np.searchsorted(track.offsets[order], base + GROUP_BYTES))
        last = max(first + 1, last)
        chosen = order[first:last]
        stop = int((track.offsets[chosen] + track.sizes[chosen]).max())
        data = np.frombuffer(view.source.read_at(base, stop - base), np.uint8)
        yield chosen, base, data
        first = last
