"""The isolated decoder: a process that decodes one picture after another and may die of any.

Started as `python -m needlewright.core.checks.decode_worker`. One request a line of JSON on
standard input: `path`, `extents` ([[offset, length], ...], bytes) or `payload` (so many bytes
follow), `format` (Pillow's name), `preview` ([start, stop] in the file) and `side` (pixels of the
thumbnail). One answer a line of JSON, then `blob` bytes of a JPEG thumbnail.

Imports neither NumPy nor numba: each worker would carry their memory.
"""

from __future__ import annotations

import io
import json
import os
import resource
import sys
import warnings
from typing import Any, BinaryIO

from PIL import Image, ImageFile, ImageOps, PngImagePlugin

MEMORY_LIMIT = 1 << 30  # bytes of address space
MAX_PIXELS = 180_000_000  # at four bytes a pixel this stays within the limit
MAX_FILE_BYTES = 1 << 28
GRID = (40, 30)  # cells in which the picture and its own thumbnail are compared


def _limit() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_LIMIT, MEMORY_LIMIT))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))  # a decoder has nothing to write
    Image.MAX_IMAGE_PIXELS = MAX_PIXELS
    PngImagePlugin.MAX_TEXT_MEMORY = 1 << 22
    warnings.simplefilter("error", Image.DecompressionBombWarning)
    Image.preinit()


def _read(request: dict[str, Any], stdin: BinaryIO) -> bytes:
    if "payload" in request:
        return stdin.read(int(request["payload"]))
    pieces = []
    total = sum(length for _, length in request["extents"])
    if total > MAX_FILE_BYTES:
        raise ValueError("file too large to decode")
    fd = os.open(request["path"], os.O_RDONLY)
    try:
        for offset, length in request["extents"]:
            while length > 0:
                block = os.pread(fd, length, offset)
                if not block:
                    raise ValueError("the source ended early")
                pieces.append(block)
                offset, length = offset + len(block), length - len(block)
    finally:
        os.close(fd)
    return b"".join(pieces)


def _cells(picture: Image.Image, box: tuple[float, float, float, float] | None) -> bytes:
    return picture.convert("RGB").resize(GRID, Image.Resampling.BOX, box=box).tobytes()


def _letterbox(preview: Image.Image, width: int, height: int) -> tuple[float, float, float, float]:
    """The part of a preview that holds the picture: cameras pad 3:2 and 16:9 to 4:3 with bars."""
    wide, high = preview.size
    scale = min(wide / width, high / height)
    inner_wide, inner_high = width * scale, height * scale
    left, top = (wide - inner_wide) / 2, (high - inner_high) / 2
    return left, top, left + inner_wide, top + inner_high


def _compare(picture: Image.Image, data: bytes, preview: list[int]) -> dict[str, Any]:
    """Mean difference of each of 30 rows of cells (grey levels), and the overall correlation."""
    try:
        small = Image.open(io.BytesIO(data[preview[0]:preview[1]]), formats=("JPEG",))
        small.load()
    except Exception:
        return {"preview": "undecodable"}
    ours = _cells(picture, None)
    box = _letterbox(small, *picture.size)
    versions = [_cells(small, box)]
    if box[0] >= 1 or box[1] >= 1:  # or else squeezed into its frame
        versions.append(_cells(small, None))
    theirs = min(versions, key=lambda v: sum(abs(a - b) for a, b in zip(ours, v)))
    stride = GRID[0] * 3
    rows = [
        sum(abs(a - b) for a, b in zip(ours[i:i + stride], theirs[i:i + stride])) / stride
        for i in range(0, len(ours), stride)
    ]
    return {"preview": "compared", "rows": [round(r, 1) for r in rows],
            "correlation": round(_correlation(ours, theirs), 3), "size": list(small.size)}


def _correlation(first: bytes, second: bytes) -> float:
    count = len(first)
    mean_1, mean_2 = sum(first) / count, sum(second) / count
    cross = sum((a - mean_1) * (b - mean_2) for a, b in zip(first, second))
    spread = sum((a - mean_1) ** 2 for a in first) * sum((b - mean_2) ** 2 for b in second)
    return float(cross / spread ** 0.5) if spread > 0 else 1.0


def _thumbnail(picture: Image.Image, side: int) -> bytes:
    picture.thumbnail((side, side), Image.Resampling.BOX, reducing_gap=None)
    upright = ImageOps.exif_transpose(picture) if picture.getexif().get(0x0112, 1) != 1 else picture
    out = io.BytesIO()
    flat = upright
    if upright.mode in ("RGBA", "LA", "PA", "P"):
        flat = Image.new("RGB", upright.size, (255, 255, 255))
        alpha = upright.convert("RGBA")
        flat.paste(alpha, mask=alpha)
    flat.convert("RGB").save(out, "JPEG", quality=82)
    return out.getvalue()


def _decode(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    answer: dict[str, Any] = {"ok": False, "error": None}
    picture: Image.Image | None = None
    try:
        picture = Image.open(io.BytesIO(data), formats=(request["format"],))
        answer["width"], answer["height"] = picture.size
        picture.load()
        answer["ok"] = True
    except MemoryError:
        answer["error"], picture = "memory", None
    except (Image.DecompressionBombError, Image.DecompressionBombWarning):
        answer["error"], picture = "too-large", None
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
        picture = _as_far_as_it_goes(data, request["format"])
    blob = b""
    try:
        if picture is not None:
            if request.get("preview"):
                answer.update(_compare(picture, data, request["preview"]))
            blob = _thumbnail(picture, request["side"])
    except Exception as error:
        answer["thumbnail"] = str(error)[:200]
    return answer, blob


def _as_far_as_it_goes(data: bytes, name: str) -> Image.Image | None:
    """The picture with its rest left grey, for looking at; never a check."""
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        picture = Image.open(io.BytesIO(data), formats=(name,))
        picture.load()
    except Exception:
        return None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = False
    return picture


def main() -> None:
    """Answer requests until standard input ends."""
    stdin, stdout = sys.stdin.buffer, sys.stdout.buffer
    _limit()
    while line := stdin.readline():
        request = json.loads(line)
        try:
            data = _read(request, stdin)
            answer, blob = _decode(data, request)
        except (MemoryError, OSError, ValueError) as error:
            answer, blob = {"ok": False, "error": "unreadable", "text": str(error)[:200]}, b""
        answer["blob"] = len(blob)
        stdout.write(json.dumps(answer).encode() + b"\n" + blob)
        stdout.flush()


if __name__ == "__main__":
    main()
