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

from PIL import Image, ImageChops, ImageFile, PngImagePlugin

MEMORY_LIMIT = 1 << 30  # bytes of address space
MAX_PIXELS = 180_000_000  # at four bytes a pixel this stays within the limit
MAX_FILE_BYTES = 1 << 28
NICENESS = 5
GRID = (40, 30)  # cells in which the picture and its own thumbnail are compared


def _limit() -> None:
    os.nice(NICENESS)  # whoever looks at the window goes first
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


def _cells(picture: Image.Image,
           box: tuple[float, float, float, float] | None) -> Image.Image:
    flat = picture if picture.mode == "RGB" else picture.convert("RGB")
    return flat.resize(GRID, Image.Resampling.BOX, box=box)


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
    apart = [_rows_apart(ours, version) for version in versions]
    best = min(range(len(versions)), key=lambda i: sum(apart[i]))
    correlation = _correlation(ours.convert("L").tobytes(), versions[best].convert("L").tobytes())
    return {"preview": "compared", "rows": apart[best], "correlation": round(correlation, 3)}


def _rows_apart(first: Image.Image, second: Image.Image) -> list[int]:
    """Mean difference of each row of cells over all channels, grey levels."""
    bands = ImageChops.difference(first, second).resize(
        (1, GRID[1]), Image.Resampling.BOX).tobytes()
    return [round(sum(bands[i : i + 3]) / 3) for i in range(0, len(bands), 3)]


def _correlation(first: bytes, second: bytes) -> float:
    count = len(first)
    mean_1, mean_2 = sum(first) / count, sum(second) / count
    cross = sum((a - mean_1) * (b - mean_2) for a, b in zip(first, second))
    spread = sum((a - mean_1) ** 2 for a in first) * sum((b - mean_2) ** 2 for b in second)
    return float(cross / spread ** 0.5) if spread > 0 else 1.0


TURNS = {
    2: Image.Transpose.FLIP_LEFT_RIGHT, 3: Image.Transpose.ROTATE_180,
    4: Image.Transpose.FLIP_TOP_BOTTOM, 5: Image.Transpose.TRANSPOSE,
    6: Image.Transpose.ROTATE_270, 7: Image.Transpose.TRANSVERSE, 8: Image.Transpose.ROTATE_90,
}


def _thumbnail(picture: Image.Image, side: int, turn: int) -> bytes:
    """JPEG within `side` pixels, turned upright by the EXIF orientation `turn`."""
    picture.thumbnail((side, side), Image.Resampling.BOX, reducing_gap=None)
    upright = picture.transpose(TURNS[turn]) if turn in TURNS else picture
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
    turn = 1
    try:
        picture = Image.open(io.BytesIO(data), formats=(request["format"],))
        answer["width"], answer["height"] = picture.size
        turn = picture.getexif().get(0x0112, 1)
        # A JPEG is decoded to fewer pixels where fewer are wanted. All of its coded data is read
        # and checked just the same; only the last arithmetic, which cannot fail, is spared.
        picture.draft(None, _wanted(picture, request["side"]))
        picture.load()
        answer["ok"] = True
    except MemoryError:
        answer["error"], picture = "memory", None
    except (Image.DecompressionBombError, Image.DecompressionBombWarning):
        answer["error"], picture = "too-large", None
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
        picture = _as_far_as_it_goes(data, request["format"], request["side"])
    blob = b""
    try:
        if picture is not None:
            # Shrunk once, by a whole factor, for all that follows: that costs a tenth of decoding.
            factor = max(1, min(picture.size) // request["side"])
            picture = picture.reduce(factor) if factor > 1 and picture.mode != "P" else picture
            if request.get("preview"):
                answer.update(_compare(picture, data, request["preview"]))
            blob = _thumbnail(picture, request["side"], turn)
    except Exception as error:
        answer["thumbnail"] = str(error)[:200]
    return answer, blob


def _wanted(picture: Image.Image, side: int) -> tuple[int, int]:
    """The smallest size whose longer side is still `side`."""
    scale = side / max(picture.size)
    return max(1, round(picture.width * scale)), max(1, round(picture.height * scale))


def _as_far_as_it_goes(data: bytes, name: str, side: int) -> Image.Image | None:
    """The picture with its rest left grey, for looking at; never a check."""
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        picture = Image.open(io.BytesIO(data), formats=(name,))
        picture.draft(None, _wanted(picture, side))
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
