"""`python -m benchmarks.mending [--only photo,mp3,…] [--kinds K,…] [--each N] [--size WxH]
[--seed S]`: damage, mended.

Made-up photographs and clips with truth, damaged in every way of `mending_damage`. Told for each:
how many open in strict decoders before and after; for pictures the mean share of pixels within 3
levels of the original before (as a patient viewer shows it), after, and possible (physically
there); for clips the share of frames that are the original's, how far the play time is off, how far
sound and pictures drift; how many are called mended, and how many of those differ where nothing is
told of it.
"""

from __future__ import annotations

import argparse
import io
import random
import tempfile
import threading
import time
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image, ImageFile
from tests.media.heic_grids import grid

from benchmarks import mending_damage as damage
from benchmarks.families import photograph
from needlewright.core.mending.treating import Treated, treat
from needlewright.demo import clips, photos

SIZES = [(2048, 1536), (1632, 1224), (1504, 1000), (1200, 1600)]
CLIPS = {
    "mp4 avc aac": ("mp4", "libx264", "aac", {}),
    "mov avc pcm": ("mov", "libx264", "pcm_s16le", {"bf": "3", "g": "30"}),
    "mp4 avc aac alone": ("mp4", "libx264", "aac", {"x264-params": "repeat-headers=1"}),
    "mov avc pcm alone": ("mov", "libx264", "pcm_s16le", {"x264-params": "repeat-headers=1"}),
    "mp4 hevc aac": ("mp4", "libx265", "aac", {"x265-params": "log-level=none"}),
    "mov mjpeg pcm": ("mov", "mjpeg", "pcm_s16le", {}),
}
STREAMS = {  # name -> container, pictures (None: sound alone), sound, extension
    "avi mpeg4 mp3": ("avi", "mpeg4", "mp3", "avi"),
    "avi mjpeg pcm": ("avi", "mjpeg", "pcm_s16le", "avi"),
    "mkv avc aac": ("matroska", "libx264", "aac", "mkv"),
    "webm vp9 opus": ("webm", "libvpx-vp9", "libopus", "webm"),
    "ts avc aac": ("mpegts", "libx264", "aac", "ts"),
    "ts mpeg2 mp2": ("mpegts", "mpeg2video", "mp2", "ts"),
    "flv avc aac": ("flv", "libx264", "aac", "flv"),
    "mpg mpeg2 mp2": ("mpeg", "mpeg2video", "mp2", "mpg"),
    "mpg mpeg1 mp2": ("mpeg", "mpeg1video", "mp2", "mpg"),
    "wmv wmv2 wma": ("asf", "wmv2", "wmav2", "wmv"),
    "mp3": ("mp3", None, "libmp3lame", "mp3"), "aac": ("adts", None, "aac", "aac"),
    "flac": ("flac", None, "flac", "flac"), "opus": ("ogg", None, "libopus", "opus"),
    "aiff": ("aiff", None, "pcm_s16be", "aif"), "wav": ("wav", None, "pcm_s16le", "wav"),
}
PICTURES: dict[str, tuple[str, dict[str, Any]]] = {  # extension -> Pillow's name and options
    "png": ("PNG", {}), "gif": ("GIF", {}), "bmp": ("BMP", {}),
    "tif": ("TIFF", {"compression": "tiff_adobe_deflate"}), "webp": ("WEBP", {}),
    "heic": ("HEIF", {}),  # in tiles
    "avif": ("AVIF", {}),
}
ALONE = "mp4 avc aac alone", "mov avc pcm alone"  # whose data repeats its parameter sets
SOUND_BLOCK = 64  # samples that are compared as one
TILE = 512  # pixels
WITHIN = 3  # grey levels
OVERSTATED = 0.05  # by which the share that is told may be more than what is right
FALSE = 0.005  # share of pixels that may differ where nothing is told: beside breaks


@dataclass
class Case:
    """One damaged file. `there`: share that is physically there; `truth`: the file as it was."""

    name: str
    data: bytes
    truth: bytes
    there: float
    kind: str


def photo_cases(family: str, kinds: list[str], each: int, seed: int) -> tuple[
        list[Case], list[bytes]]:
    options: dict[str, dict[str, Any]] = {
        "photo": {}, "restart": {"restart_rows": 1}, "progressive": {"progressive": True}}
    cases, siblings = [], []
    rng = random.Random(f"{family} {seed}")
    for size in SIZES:
        siblings.append(_photo(rng, size, 90, options[family]))
    for kind in kinds:
        for number in range(each):
            size = SIZES[number % len(SIZES)]
            whole = _photo(rng, size, 90, options[family])
            data, there = damage.photo(whole, kind, rng)
            cases.append(Case(f"{kind} {number}.jpg", data, whole, there, kind))
    return cases, siblings


def _photo(rng: random.Random, size: tuple[int, int], quality: int,
           options: dict[str, Any]) -> bytes:
    picture = photograph(rng, *size)
    return photos.encode_photo(picture, "2031:05:12 05:58:12", rng.randrange(99, 999),
                               quality, **options)


def clip_cases(family: str, kinds: list[str], each: int, seed: int) -> tuple[
        list[Case], list[bytes]]:
    container, video, audio, options = CLIPS[family]
    rng = random.Random(f"{family} {seed}")
    cases: list[Case] = []
    first = rng.randrange(100, 10_000)
    sibling = clips.encode(container, video, audio, first, 60, (640, 480), coder=options)
    for number in range(each):
        made = [clips.encode(container, video, audio, first + 1 + number, 150, (640, 480),
                             coder=options, options=more)
                for more in ({}, {"movflags": "faststart"})]
        for kind in kinds:
            data, there = damage.clip(*made, kind, rng)
            cases.append(Case(f"{kind} {number}.{container}", data, made[0], there, kind))
    return cases, [] if family in ALONE else [sibling]


def picture_cases(family: str, kinds: list[str], each: int, seed: int) -> tuple[
        list[Case], list[bytes]]:
    name, options = PICTURES[family]
    rng = random.Random(f"{family} {seed}")
    cases, siblings = [], []
    sizes = [SIZES[0 if family == "heic" else n % len(SIZES)] for n in range(each)]
    for number, size in enumerate((*sizes, *dict.fromkeys(sizes))):
        out = io.BytesIO()
        drawn = photograph(rng, *size)
        if family == "gif":
            drawn = drawn.quantize(128)
        if family == "heic":
            out.write(grid(drawn, TILE))
        else:
            drawn.save(out, name, **options)
        if number >= each:
            siblings.append(out.getvalue())
            continue
        for kind in kinds:
            data, there = damage.picture(out.getvalue(), kind, family, rng)
            cases.append(Case(f"{kind} {number}.{family}", data, out.getvalue(), there, kind))
    return cases, siblings


def stream_cases(family: str, kinds: list[str], each: int, seed: int) -> tuple[
        list[Case], list[bytes]]:
    container, video, audio, extension = STREAMS[family]
    rng = random.Random(f"{family} {seed}")

    def make(frames: int) -> bytes:
        number = rng.randrange(100, 10_000)
        if video is None:
            return clips.record(container, audio, number, frames / clips.FPS)
        return clips.encode(container, video, audio, number, frames, (640, 480))

    cases = []
    for number in range(each):
        whole = make(rng.randrange(150, 250))
        for kind in kinds:
            data, there = damage.stream(whole, kind, rng)
            cases.append(Case(f"{kind} {number}.{extension}", data, whole, there, kind))
    return cases, [make(60)]


def shown(data: bytes, patient: bool = False) -> np.ndarray | None:
    """The picture as Pillow decodes it; None where it does not."""
    ImageFile.LOAD_TRUNCATED_IMAGES = patient
    try:
        return np.asarray(Image.open(io.BytesIO(data)).convert("RGB")).astype(np.int16)
    except Exception:
        return None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = False


def kept(picture: np.ndarray | None, truth: np.ndarray) -> float:
    if picture is None or picture.shape[1] != truth.shape[1]:
        return 0.0
    rows = min(len(picture), len(truth))
    same = np.abs(picture[:rows] - truth[:rows]).max(2) <= WITHIN
    # A viewer leaves rows that it cannot decode black: shadows that happen to be are not kept.
    same[~picture[:rows].any(axis=(1, 2)) & truth[:rows].any(axis=(1, 2))] = False
    return float(same.sum()) / (truth.shape[0] * truth.shape[1])


def judge_photo(case: Case, done: Treated) -> dict[str, float]:
    truth = shown(case.truth, False)
    assert truth is not None
    result = {"opens before": float(shown(case.data, False) is not None),
              "kept before": kept(shown(case.data, True), truth), "possible": case.there}
    after = None if done.output is None else shown(done.output.read_bytes(), False)
    result["opens after"] = float(after is not None) if done.output is not None else (
        result["opens before"])
    result["kept after"] = kept(after, truth) if done.output is not None else result["kept before"]
    result["mended"] = float(done.grade == "mended")
    result["false"] = float(done.grade == "mended" and untold(done, after, truth) > FALSE)
    result["worse"] = float(result["kept after"] < result["kept before"] - 0.005)
    if done.output is not None:
        result["over"] = float(done.share > result["kept after"] + OVERSTATED)
        result["silent"] = float(not done.changes)
    return result


def untold(done: Treated, after: np.ndarray | None, truth: np.ndarray) -> float:
    """Share of pixels that differ from the original where no change says that they are missing."""
    if after is None or after.shape[1] != truth.shape[1]:
        return 1.0
    rows = min(len(after), len(truth))
    wrong = np.abs(after[:rows] - truth[:rows]).max(2) > WITHIN
    for change in done.changes:
        for top, left, bottom, right in change.values.get("areas", ()):
            wrong[top:bottom, left:right] = False
    return float(wrong.mean())


def frames_of(data: bytes) -> tuple[list[int], list[float], float, float, bool]:
    """(a sum of each frame, its time, seconds of pictures, of sound, whether all decoded)."""
    sums, times, sound, fine = [], [], 0.0, True
    try:
        with av.open(io.BytesIO(data)) as file:
            for frame in file.decode(video=0):
                sums.append(hash(frame.to_ndarray(format="gray").tobytes()))
                times.append(float(frame.time or 0))
        with av.open(io.BytesIO(data)) as file:
            if file.streams.audio:
                for frame in file.decode(audio=0):
                    sound = float(frame.time or 0) + frame.samples / frame.sample_rate
    except Exception:
        fine = False
    return sums, times, times[-1] if times else 0.0, sound, fine


def sound_of(data: bytes) -> tuple[list[int], bool]:
    """(a sum of every block of samples that is no silence, whether all decoded)."""
    parts, fine = [], True
    try:
        with av.open(io.BytesIO(data)) as file:
            parts = [frame.to_ndarray()[0] for frame in file.decode(audio=0)]
    except Exception:
        fine = False
    samples = np.concatenate(parts) if parts else np.zeros(0)
    blocks = samples[: len(samples) // SOUND_BLOCK * SOUND_BLOCK].reshape(-1, SOUND_BLOCK)
    return [hash(block.tobytes()) for block in blocks if block.any()], fine and bool(parts)


def judge_sound(case: Case, done: Treated) -> dict[str, float]:
    """How long the sound is: most codings let no more be compared behind what is left out."""
    truth, before = sound_of(case.truth)[0], sound_of(case.data)
    result = {"opens before": float(before[1]), "possible": case.there,
              "kept before": min(1.0, len(before[0]) / len(truth)) * before[1]}
    if done.output is None:
        return {**result, "opens after": result["opens before"], "false": 0.0, "worse": 0.0,
                "kept after": result["kept before"]}
    found = sound_of(done.output.read_bytes())
    result["opens after"] = float(found[1])
    result["kept after"] = min(1.0, len(found[0]) / len(truth)) * found[1]
    result["mended"] = float(done.grade == "mended")
    # Behind what is left out nothing stands at the place of a block any more: only the beginning
    # can be compared, and as much sound as there was may not become more.
    longer = len(found[0]) > len(truth) + 2048 // SOUND_BLOCK
    result["false"] = float(done.grade == "mended" and longer)
    result["worse"] = float(result["kept after"] < result["kept before"] - 0.03)
    return result


def judge_clip(case: Case, done: Treated) -> dict[str, float]:
    sums, times, seconds, sound, _ = frames_of(case.truth)
    before = frames_of(case.data)
    result = {"opens before": float(bool(before[0]) and before[4]),
              "kept before": _same(before[0], sums), "possible": case.there}
    if done.output is None:
        return {**result, "opens after": result["opens before"], "mended": 0.0, "false": 0.0,
                "kept after": result["kept before"], "worse": 0.0}
    found = frames_of(done.output.read_bytes())
    result["opens after"] = float(bool(found[0]) and found[4])
    result["kept after"] = _same(found[0], sums)
    where = dict(zip(sums, times))
    off = [abs(t - where[s]) for s, t in zip(found[0], found[1]) if s in where]
    result["off"] = max(off, default=9.0)
    result["drift"] = abs((found[3] - found[2]) - (sound - seconds)) if case.there == 1.0 else 0.0
    result["mended"] = float(done.grade == "mended")
    strange = sum(1 for s in found[0] if s not in where)
    result["false"] = float(done.grade == "mended" and strange > 0)
    result["worse"] = float(result["kept after"] < result["kept before"])
    return result


def _same(found: list[int], truth: list[int]) -> float:
    return len(set(found) & set(truth)) / max(1, len(set(truth)))


def run(family: str, kinds: list[str], each: int, seed: int, verbose: bool) -> None:
    make, judge, suffix = photo_cases, judge_photo, "jpg"
    if family in PICTURES:
        make, suffix = picture_cases, family
    elif family in CLIPS:
        make, judge, suffix = clip_cases, judge_clip, CLIPS[family][0]
    elif family in STREAMS:
        judge = judge_sound if STREAMS[family][1] is None else judge_clip
        make, suffix = stream_cases, STREAMS[family][3]
    cases, siblings = make(family, kinds, each, seed)
    table: dict[str, list[dict[str, float]]] = defaultdict(list)
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder)
        (base / "in").mkdir()
        (base / "out").mkdir()
        (base / "ref").mkdir()
        for case in cases:
            (base / "in" / case.name).write_bytes(case.data)
        references = []
        for number, data in enumerate(siblings):
            references.append(base / "ref" / f"sibling {number}.{suffix}")
            references[-1].write_bytes(data)
        by_path = {base / "in" / case.name: case for case in cases}
        last = time.monotonic()
        for done in treat(list(by_path), base / "out", references, threading.Event()):
            case = by_path[done.path]
            seconds = time.monotonic() - last
            told = judge(case, done)
            table[case.kind].append({**told, "seconds": seconds})
            if verbose or told["false"] or told["worse"] or told.get("over") or (
                    told.get("silent")):
                print(f"   {family}: {case.name}: {done.grade} {done.why}",
                      f"{done.share_before:.3f} -> {done.share:.3f}",
                      {k: round(v, 3) for k, v in told.items()},
                      [(c.code, dict(c.values)) for c in done.changes][:3] if told["false"] else "")
            last = time.monotonic()
    for kind in kinds:
        print(line(family, kind, table[kind]), flush=True)


def line(family: str, kind: str, rows: list[dict[str, float]]) -> str:
    def mean(name: str) -> float:
        return float(np.mean([row.get(name, 0.0) for row in rows]))

    def total(name: str) -> int:
        return int(sum(row.get(name, 0.0) for row in rows))

    before, after = mean("kept before"), mean("kept after")
    of_possible = after / max(1e-9, mean("possible"))
    more = f", off {max(r.get('off', 0.0) for r in rows):.3f} s, drift " \
        f"{max(r.get('drift', 0.0) for r in rows):.3f} s" if "off" in rows[0] else ""
    return (f"{family:14} {kind:21} {len(rows)}: opens {total('opens before')} -> "
            f"{total('opens after')}; kept {before:.3f} -> {after:.3f} of "
            f"{mean('possible'):.3f} ({of_possible:.3f}); mended {total('mended')}, false "
            f"{total('false')}, worse {total('worse')}, overstated {total('over')}, unlisted "
            f"{total('silent')}{more}; {mean('seconds'):.2f} s")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    every = ("photo", "restart", "progressive", *PICTURES, *CLIPS, *STREAMS)
    parser.add_argument("--only", default=",".join(every))
    parser.add_argument("--kinds", default="")
    parser.add_argument("--each", type=int, default=4)
    parser.add_argument("--size", help="of all photographs, as 640x480: small ones are harder")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("-v", action="store_true")
    options = parser.parse_args()
    if options.size:
        width, height = (int(part) for part in options.size.split("x"))
        SIZES[:] = [(width, height)]
    for family in options.only.split(","):
        all_kinds = damage.CLIP if family in CLIPS else (
            damage.STREAM if family in STREAMS else (
                damage.PICTURE if family in PICTURES else damage.PHOTO))
        kinds = [k for k in all_kinds if not options.kinds or k in options.kinds.split(",")]
        if kinds:
            run(family, kinds, options.each, options.seed, options.v)


if __name__ == "__main__":
    main()
