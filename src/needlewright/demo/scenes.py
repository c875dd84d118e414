"""Draws the survey's pictures: dawn valleys, a river, reeds, otters, a caption bar, charts.

Only integer arithmetic and Pillow's integer resampling, no transcendental function: vector units
differ in the last bit of those, and the pictures must be the same bytes on every machine.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt
from PIL import Image, ImageDraw, ImageFont

FONT = Path(__file__).resolve().parents[1] / "app" / "assets" / "fonts" / "Lato-Regular.ttf"

Layer = npt.NDArray[np.int16]

# Dawn skies, top and horizon; then far, middle and near hills.
SKIES = (
    ((122, 150, 214), (226, 208, 170)), ((150, 190, 218), (214, 196, 160)),
    ((104, 120, 170), (232, 176, 140)), ((168, 196, 206), (216, 216, 196)),
    ((92, 112, 150), (206, 190, 186)),
)
HILLS = (
    ((106, 132, 98), (72, 100, 66), (38, 66, 36)), ((120, 128, 108), (88, 98, 62), (54, 60, 32)),
    ((96, 122, 118), (64, 92, 84), (34, 54, 46)), ((132, 124, 96), (100, 92, 58), (62, 52, 28)),
)


def _noise(rng: np.random.Generator, width: int, height: int, cell: int, flat: int = 1) -> Layer:
    """Smooth noise of -128..127, int16[height, width]; features `cell` pixels wide, `flat` times
    less high."""
    high = max(2, cell // flat)
    small = rng.integers(0, 256, (height // high + 3, width // cell + 3), dtype=np.uint8)
    grown = Image.fromarray(small).resize((width, height), Image.Resampling.BICUBIC)
    return np.asarray(grown).astype(np.int16) - 128


def _ridge(rng: np.random.Generator, width: int, level: int, rough: int) -> npt.NDArray[np.int64]:
    """A skyline by midpoint displacement: the row of the ridge in each column, int64[width]."""
    points = rng.integers(-rough, rough + 1, 5).astype(np.int64) + level
    while len(points) < width:
        rough = max(1, rough * 5 // 9)
        middle = (points[:-1] + points[1:]) // 2
        middle += rng.integers(-rough, rough + 1, len(middle))
        merged = np.empty(len(points) * 2 - 1, np.int64)
        merged[0::2], merged[1::2] = points, middle
        points = merged
    picks = np.arange(width, dtype=np.int64) * (len(points) - 1) // max(1, width - 1)
    return points[picks]


def _sky(rng: np.random.Generator, width: int, height: int, clouds: Layer) -> Layer:
    top, low = SKIES[int(rng.integers(len(SKIES)))]
    rows = np.arange(height, dtype=np.int64)[:, None]
    picture = np.empty((height, width, 3), np.int16)
    for channel in range(3):
        ramp = top[channel] + (low[channel] - top[channel]) * rows // height
        picture[:, :, channel] = ramp + (clouds * (3 - channel // 2) >> 4)
    return picture


def _paint_below(picture: Layer, ridge: npt.NDArray[np.int64], colour: tuple[int, int, int],
                 texture: Layer, strength: int) -> None:
    height = picture.shape[0]
    start = max(0, int(ridge.min()))
    rows = np.arange(start, height, dtype=np.int64)[:, None]
    below = rows - ridge[None, :]
    mask = below >= 0
    # Light on the ridge, darker slopes, and mist again towards the foot.
    slope = np.abs(below * 256 // height - 34) * 3 // 4 - 12
    shade = ((texture[start:] * strength) >> 6) + np.minimum(slope, 20)
    for channel in range(3):
        part = picture[start:, :, channel]
        np.copyto(part, (colour[channel] + shade).astype(np.int16), where=mask)


def _river(rng: np.random.Generator, picture: Layer, texture: Layer) -> None:
    height, width, _ = picture.shape
    top = height * int(rng.integers(70, 80)) // 100
    rows = np.arange(top, height, dtype=np.int64)
    depth = rows - top
    middle = width * int(rng.integers(30, 70)) // 100 + depth * int(rng.integers(-40, 41)) // 100
    bend = (depth * depth // max(1, height - top)) * int(rng.integers(60, 120)) // 100
    half = width // 90 + depth // 6 + bend
    columns = np.arange(width, dtype=np.int64)[None, :]
    mask = np.abs(columns - middle[:, None]) < half[:, None]
    ripple = (texture[top:][:, ::-1] >> 2) + ((rows[:, None] * 7 // max(6, height // 150)) % 9)
    mirror = picture[: height - top][::-1]
    for channel in range(3):
        water = (mirror[:, :, channel] * 3 >> 2) + ripple + channel * 4
        np.copyto(picture[top:, :, channel], water.astype(np.int16), where=mask)


def _animals(rng: np.random.Generator, draw: ImageDraw.ImageDraw, width: int, height: int) -> None:
    for _ in range(int(rng.integers(1, 4))):
        unit = width // int(rng.integers(150, 260))
        x = int(rng.integers(unit * 16, width - unit * 34))
        y = height * int(rng.integers(76, 88)) // 100
        _otter(draw, x, y, unit, 1 if rng.integers(2) else -1, int(rng.integers(0, 30)))


def _otter(draw: ImageDraw.ImageDraw, x: int, y: int, unit: int, way: int, tone: int) -> None:
    """An otter lying at (x, y), 30 units long, its head to the right (`way` 1) or to the left."""
    fur = (74 + tone, 56 + tone * 3 // 4, 42 + tone // 2)
    pale = (142 + tone, 122 + tone, 98 + tone)

    def oval(left: int, top: int, right: int, bottom: int, colour: tuple[int, int, int]) -> None:
        ends = sorted((x + way * left * unit, x + way * right * unit))
        draw.ellipse((ends[0], y + top * unit, ends[1], y + bottom * unit), fill=colour)

    tail = ((-10, 2), (-4, -3), (2, 1), (0, 4))
    draw.polygon([(x + way * a * unit, y + b * unit) for a, b in tail], fill=fur)
    oval(-4, -4, 15, 5, fur)
    oval(0, 1, 13, 5, pale)
    oval(11, -7, 19, 2, fur)
    oval(15, -4, 21, 1, pale)
    oval(12, -8, 14, -6, fur)
    oval(19, -4, 21, -2, (20, 18, 16))
    oval(16, -5, 17, -4, (16, 14, 12))


def _reeds(rng: np.random.Generator, draw: ImageDraw.ImageDraw, width: int, height: int) -> None:
    count = int(rng.integers(60, 160))
    xs, tall = rng.integers(0, width, count), rng.integers(height // 12, height // 4, count)
    lean, tint = rng.integers(-60, 61, count), rng.integers(0, 40, count)
    for x, size, bend, tone in zip(xs.tolist(), tall.tolist(), lean.tolist(), tint.tolist()):
        tip = (x + size * bend // 200, height - size)
        draw.line((x, height, *tip), fill=(70 + tone, 84 + tone, 40 + tone // 2),
                  width=max(2, width // 900))


def draw_photo(seed: int, width: int, height: int, caption: str) -> Image.Image:
    """One survey photo, RGB `width` x `height`; the same bytes for the same arguments.

    The scene is drawn at half the size and enlarged, then given grain and sharp reeds at full size:
    what a small lens and a sensor do, in a third of the time.
    """
    rng = np.random.default_rng(seed)
    image = _scene(rng, -(-width // 2), -(-height // 2)).resize(
        (width, height), Image.Resampling.BICUBIC)
    draw = ImageDraw.Draw(image)
    _animals(rng, draw, width, height)
    _reeds(rng, draw, width, height)
    image = _grain(rng, image)
    _caption(image, caption)
    return image


def _grain(rng: np.random.Generator, image: Image.Image) -> Image.Image:
    """Sensor noise: a tile of it, laid at a new place in every 256 rows."""
    tile = rng.integers(0, 11, (256, image.width + 512), dtype=np.uint8)
    pixels = np.array(image)
    for top in range(0, image.height, 256):
        rows = pixels[top : top + 256]
        shift = int(rng.integers(0, 512))
        noise = tile[: len(rows), shift : shift + image.width, None]
        np.maximum(rows, 5, out=rows)
        np.minimum(rows, 250, out=rows)
        rows += noise
        rows -= 5
    return Image.fromarray(pixels)


def _scene(rng: np.random.Generator, width: int, height: int) -> Image.Image:
    broad = _noise(rng, width, height, max(24, width // 5), flat=4)
    wisps = _noise(rng, width, height, max(8, width // 30), flat=5)
    middle = _noise(rng, width, height, max(8, width // 90))
    fine = _noise(rng, width, height, 3)
    picture = _sky(rng, width, height, broad + (wisps >> 1))
    texture = (middle >> 1) + (fine >> 2)
    hills = HILLS[int(rng.integers(len(HILLS)))]
    for index, colour in enumerate(hills):
        level = height * (40 + 16 * index + int(rng.integers(-5, 6))) // 100
        ridge = _ridge(rng, width, level, height // (9 + 3 * index))
        _paint_below(picture, ridge, colour, texture, 10 + 12 * index)
    _river(rng, picture, middle)
    return Image.fromarray(np.clip(picture, 0, 255).astype(np.uint8))


def _caption(image: Image.Image, text: str) -> None:
    width, height = image.size
    bar = height // 28
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, height - bar, width, height), fill=(24, 26, 24))
    font = ImageFont.truetype(str(FONT), max(8, bar * 2 // 3))
    draw.text((bar // 2, height - bar * 15 // 16), text, font=font, fill=(226, 222, 208))


def draw_chart(seed: int, width: int, height: int, title: str) -> Image.Image:
    """A sightings chart: bars and a line over the weeks, RGB."""
    rng = np.random.default_rng(seed)
    image = Image.new("RGB", (width, height), (250, 249, 245))
    draw = ImageDraw.Draw(image)
    edge = width // 14
    font = ImageFont.truetype(str(FONT), max(10, height // 28))
    draw.text((edge, edge // 3), title, font=font, fill=(40, 42, 46))
    base, weeks = height - edge, 16
    for line in range(6):
        y = base - (base - 2 * edge) * line // 5
        draw.line((edge, y, width - edge, y), fill=(222, 219, 210))
        draw.text((edge // 4, y - 10), str(line * 4), font=font, fill=(110, 110, 110))
    step = (width - 2 * edge) // weeks
    points = []
    for week in range(weeks):
        tall = (base - 2 * edge) * int(rng.integers(8, 100)) // 100
        x = edge + week * step
        draw.rectangle((x + step // 6, base - tall, x + step * 5 // 6, base), fill=(96, 128, 112))
        points.append((x + step // 2, base - tall * int(rng.integers(60, 110)) // 100))
    draw.line(points, fill=(134, 83, 9), width=max(2, height // 250))
    return image
