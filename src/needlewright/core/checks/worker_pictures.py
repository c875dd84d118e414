"""Pictures in the isolated decoder: decoded in full, compared with their preview, made small."""

from __future__ import annotations

import contextlib
import io
from typing import Any

from PIL import Image, ImageChops, ImageFile

from needlewright.core.checks import worker_levels
from needlewright.core.decoders import Decoder

GRID = (40, 30)  # cells in which the picture and its own thumbnail are compared
#: What a database says of how it is written (SQLite file format, 1.3.3).
IN_USE, ROLLING_BACK = b"\2\2", b"\1\1"
LEVELS_FROM = 0.8  # correlation from which on a thumbnail may witness small changes of level
TURNS = {
    2: Image.Transpose.FLIP_LEFT_RIGHT, 3: Image.Transpose.ROTATE_180,
    4: Image.Transpose.FLIP_TOP_BOTTOM, 5: Image.Transpose.TRANSPOSE,
    6: Image.Transpose.ROTATE_270, 7: Image.Transpose.TRANSVERSE, 8: Image.Transpose.ROTATE_90,
}


def _cells(picture: Image.Image,
           box: tuple[float, float, float, float] | None) -> Image.Image:
    flat = picture if picture.mode == "RGB" else picture.convert("RGB")
    return flat.resize(GRID, Image.Resampling.BOX, box=box)


def _letterbox(preview: Image.Image, width: int, height: int) -> tuple[float, float, float, float]:
    """The part of a preview that holds the picture: cameras pad 3:2 and 16:9 to 4:3 with bars."""
    wide, high = preview.size
    scale = min(wide / width, high / height)
    return _middle(wide, high, width * scale, height * scale)


def _middle(wide: int, high: int, inner_wide: float, inner_high: float) -> tuple[
        float, float, float, float]:
    """The box of `inner_wide` x `inner_high` in the middle; never, by rounding, outside."""
    left, top = max(0.0, (wide - inner_wide) / 2), max(0.0, (high - inner_high) / 2)
    return left, top, wide - left, high - top


def _crop(picture: Image.Image, wide: int, high: int) -> (
        tuple[float, float, float, float] | None):
    """The middle of a picture in the shape of its preview; None where both have one shape."""
    scale = min(picture.width / wide, picture.height / high)
    box = _middle(picture.width, picture.height, wide * scale, high * scale)
    if box[0] < picture.width * 0.01 and box[1] < picture.height * 0.01:
        return None
    return box


def _compare(picture: Image.Image, data: bytes, preview: list[int]) -> dict[str, Any]:
    """Mean difference of each of 30 rows of cells (grey levels), and the overall correlation."""
    try:
        small = Image.open(io.BytesIO(data[preview[0]:preview[1]]), formats=("JPEG",))
        small.load()
    except Exception:
        return {"preview": "undecodable"}
    box = _letterbox(small, *picture.size)
    ways: list[tuple[worker_levels.Box, worker_levels.Box]] = [(None, box)]
    if box[0] >= 1 or box[1] >= 1:  # or else squeezed into its frame
        ways.append((None, None))
    crop = _crop(picture, *small.size)
    if crop is not None:  # or else only its middle is shown
        ways.append((crop, None))
    pairs = [(_cells(picture, ours), _cells(small, theirs)) for ours, theirs in ways]
    compared = [_rows_apart(*pair) for pair in pairs]
    best = min(range(len(pairs)), key=lambda i: sum(compared[i]))
    correlation = _correlation(*(p.convert("L").tobytes() for p in pairs[best]))
    answer = {"preview": "compared", "rows": compared[best], "correlation": round(correlation, 3)}
    if correlation >= LEVELS_FROM:
        with contextlib.suppress(Exception):  # as where there is no room for all of its pixels
            answer["level_row"] = _level_row(data, picture, small, *ways[best])
    return answer


def _level_row(data: bytes, picture: Image.Image, small: Image.Image, crop: worker_levels.Box,
               box: worker_levels.Box) -> int | None:
    """The row from which on all is of another level than the thumbnail and the rows above say."""
    steps = worker_levels.candidates(picture, small, crop, box)
    if not steps:
        return None
    high = round(box[3] - box[1]) if box is not None else small.height
    with Image.open(io.BytesIO(data), formats=("JPEG",)) as whole:
        scale = whole.width / picture.width
    return worker_levels.first_shown(data, steps, high, crop, scale)


def _compare_heif(picture: Image.Image, data: bytes) -> dict[str, Any]:
    """As `_compare`, with the thumbnail item of an HEIF file; nothing where it has none."""
    small = Image.open(io.BytesIO(data), formats=("HEIF",))
    if not small.info.get("thumbnails"):
        return {}  # other uses of the word stand in indexes without one
    try:
        if small.draft(None, (1, 1)) is None:
            return {"preview": "undecodable"}
        small.load()
    except Exception:
        return {"preview": "undecodable"}
    return compare_small(picture, small)


def compare_small(picture: Image.Image, small: Image.Image) -> dict[str, Any]:
    """As `_compare`, with a small version of just the same shape."""
    ours = _cells(picture, None)
    version = _cells(small, None)
    return {"preview": "compared", "rows": _rows_apart(ours, version), "correlation": round(
        _correlation(ours.convert("L").tobytes(), version.convert("L").tobytes()), 3)}


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


def thumbnail(picture: Image.Image, side: int, turn: int = 1) -> bytes:
    """JPEG within `side` pixels, turned upright by the EXIF orientation `turn`."""
    picture.thumbnail((side, side), Image.Resampling.BOX, reducing_gap=None)
    upright = picture.transpose(TURNS[turn]) if turn in TURNS else picture
    out = io.BytesIO()
    flat = upright
    if upright.mode in ("RGBA", "LA", "PA", "P"):
        flat = Image.new("RGB", upright.size, (255, 255, 255))
        alpha = upright.convert("RGBA")
        flat.paste(alpha, mask=alpha)
    elif upright.mode.startswith("I;16"):  # 16-bit grey keeps its upper half
        flat = upright.convert("I").point(lambda value: value / 256).convert("L")
    flat.convert("RGB").save(out, "JPEG", quality=82)
    return out.getvalue()


def decode_picture(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], list[bytes]]:
    """(answer, [thumbnail]) for a picture that Pillow, or one of its plugins, decodes."""
    answer: dict[str, Any] = {"ok": False, "error": None}
    picture: Image.Image | None = None
    turn = 1
    if request["format"] == Decoder.HEIF:
        import pillow_heif

        pillow_heif.register_heif_opener()
    try:
        picture = Image.open(io.BytesIO(data), formats=(request["format"],))
        answer["width"], answer["height"] = picture.size
        # The decoder of HEIF turns the picture itself, as the file's own properties say.
        turn = picture.getexif().get(0x0112, 1) if request["format"] != Decoder.HEIF else 1
        # A JPEG is decoded to fewer pixels where fewer are wanted. All of its coded data is read
        # and checked just the same; only the last arithmetic, which cannot fail, is spared.
        if request["format"] == "JPEG":  # of HEIF this would decode the thumbnail instead
            picture.draft(None, _wanted(picture, request["side"]))
        picture.load()
        answer["ok"] = True
        if request["format"] != "JPEG" and getattr(picture, "n_frames", 1) > 1:
            picture = _all_frames(picture)
    except MemoryError:
        answer["error"], answer["ok"], picture = "memory", False, None
    except (Image.DecompressionBombError, Image.DecompressionBombWarning):
        answer["error"], answer["ok"], picture = "too-large", False, None
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
        answer["ok"] = False
        picture = _as_far_as_it_goes(data, request["format"], request["side"])
    return answer, [_finish(picture, data, request, answer, turn), _inset(data, request)]


def _inset(data: bytes, request: dict[str, Any]) -> bytes:
    """The embedded preview as a picture of its own: what is recovered is shown by no other."""
    preview = request.get("preview")
    if not preview or not request.get("inset"):
        return b""
    try:
        small = Image.open(io.BytesIO(data[preview[0] : preview[1]]), formats=("JPEG",))
        small.draft("RGB", _wanted(small, request["side"]))
        small.load()
        return thumbnail(small, request["side"])
    except Exception:
        return b""


def _all_frames(picture: Image.Image) -> Image.Image:
    """Decode every frame, keep the first."""
    first = picture.copy()
    for index in range(1, int(getattr(picture, "n_frames", 1))):
        picture.seek(index)
        picture.load()
    return first


def _finish(picture: Image.Image | None, data: bytes, request: dict[str, Any],
            answer: dict[str, Any], turn: int) -> bytes:
    if picture is None:
        return b""
    try:
        # Shrunk once, by a whole factor, for all that follows: that costs a tenth of decoding.
        factor = max(1, min(picture.size) // request["side"])
        small = factor > 1 and picture.mode in ("L", "RGB", "RGBA", "CMYK", "YCbCr")
        picture = picture.reduce(factor) if small else picture
        with contextlib.suppress(Exception):  # a witness that cannot be heard hides no picture
            if request["format"] == Decoder.HEIF:
                answer.update(_compare_heif(picture, data))
            elif request.get("preview"):
                answer.update(_compare(picture, data, request["preview"]))
        return thumbnail(picture, request["side"], turn)
    except Exception as error:
        answer["thumbnail"] = str(error)[:200]
        return b""


def _wanted(picture: Image.Image, side: int) -> tuple[int, int]:
    """The smallest size whose longer side is still `side`."""
    scale = side / max(picture.size)
    return max(1, round(picture.width * scale)), max(1, round(picture.height * scale))


def _as_far_as_it_goes(data: bytes, name: str, side: int) -> Image.Image | None:
    """The picture with its rest left grey, for looking at; never a check."""
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        picture = Image.open(io.BytesIO(data), formats=(name,))
        if name == "JPEG":
            picture.draft(None, _wanted(picture, side))
        picture.load()
    except Exception:
        return None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = False
    return picture


def decode_raw(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], list[bytes]]:
    """A raw picture: its mosaic is unpacked by LibRaw, its preview is what is shown."""
    import rawpy

    answer: dict[str, Any] = {"ok": False, "error": None}
    blob = b""
    preview = request.get("preview")
    if preview:
        try:
            shown = Image.open(io.BytesIO(data[preview[0] : preview[1]]), formats=("JPEG",))
            turn = shown.getexif().get(0x0112, request.get("turn", 1))
            shown.draft("RGB", _wanted(shown, request["side"]))
            shown.load()
            blob = thumbnail(shown, request["side"], turn)
            answer["preview"] = "shown"
        except Exception:
            answer["preview"] = "undecodable"
    try:
        with rawpy.imread(io.BytesIO(data)) as raw:
            pixels = raw.raw_image
            answer["width"], answer["height"] = int(pixels.shape[1]), int(pixels.shape[0])
            if not blob:
                made = raw.postprocess(half_size=True, use_camera_wb=True, output_bps=8)
                blob = thumbnail(Image.fromarray(made), request["side"])
        answer["ok"] = True
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        # Families whose raw data this decoder does not know are no damage.
        name = type(error).__name__
        answer["error"] = "unknown" if "Unsupported" in name else "undecodable"
        said = error.args[0] if error.args else name
        answer["text"] = (said.decode("utf-8", "replace") if isinstance(said, bytes) else
                          str(said))[:200]
    return answer, [blob, _inset(data, request)]


def decode_jxl(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], list[bytes]]:
    """A JPEG XL picture, by libjxl."""
    import imagecodecs

    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        pixels = imagecodecs.jpegxl_decode(data, numthreads=1)
        if pixels.ndim == 4:
            pixels = pixels[0]
        if pixels.dtype.itemsize > 1:
            pixels = (pixels >> 8).astype("uint8") if pixels.dtype.kind == "u" else (
                (pixels.clip(0, 1) * 255).astype("uint8"))
        answer["width"], answer["height"] = int(pixels.shape[1]), int(pixels.shape[0])
        answer["ok"] = True
        if pixels.ndim == 3 and pixels.shape[2] == 2:
            pixels = pixels[:, :, 0]
        if pixels.ndim == 3 and pixels.shape[2] == 1:
            pixels = pixels[:, :, 0]
        return answer, [thumbnail(Image.fromarray(pixels), request["side"])]
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
    return answer, [b""]


def decode_database(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], list[bytes]]:
    """A database: SQLite reads all of it in memory and checks its own structure."""
    import sqlite3

    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        store = sqlite3.connect(":memory:")
        if data[18:20] == IN_USE:
            # One that was in use is opened with its log alone; it was whole before it as well.
            data = data[:18] + ROLLING_BACK + data[20:]
        store.deserialize(data)
        said = [row[0] for row in store.execute("PRAGMA integrity_check(3)")]
        answer["ok"] = said == ["ok"]
        if not answer["ok"]:
            answer["error"], answer["text"] = "undecodable", "; ".join(said)[:200]
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
    return answer, [b""]
