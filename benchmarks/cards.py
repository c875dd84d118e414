"""`python -m benchmarks.cards [--n 300] [--first 1] [--only KIND] [--keep DIR]`: random cards.

Each card is drawn from its seed, written by real formatters and drivers, searched and delivered by
the command line, and compared with its truth. Told are hangs (ten minutes), cards that took more
than one minute, failures, live files that are not in place, removed ones in one piece that did not
come back, names that stand on the medium and are not given, and finds that are called whole and
never were a file.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.cards import history
from tests.cards.comparing import Result, compare

SLOW_S = 60.0  # told
LIMIT_S = 600.0  # given up


def one(seed: int, kinds: list[str], keep: Path | None) -> tuple[str, Result | None, Counter[str]]:
    """(lines about the card of `seed`, what came back, counts)."""
    with tempfile.TemporaryDirectory(prefix="needlewright-cards-") as folder:
        place = Path(folder)
        try:
            card = history.make(seed, place, kinds)
        except Exception:
            return f"seed {seed}: could not be made\n{traceback.format_exc()}", None, Counter(
                unmade=1)
        began = time.monotonic()
        command = [sys.executable, "-P", "-m", "needlewright", "run", str(card.image), "--job",
                   str(place / "job"), "--to", str(place / "bag")]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=LIMIT_S)
        except subprocess.TimeoutExpired:
            return f"{card}: HANGS", None, Counter(hangs=1)
        took = time.monotonic() - began
        if done.returncode:
            return f"{card}: exit {done.returncode}: {done.stderr[-400:]}", None, Counter(failed=1)
        result = compare(card, place / "bag")
        if result.wrong and keep is not None:
            shutil.copytree(place, keep / f"{seed}", dirs_exist_ok=True)
        lines = [f"{card}, {took:.1f} s"]
        for name in ("live_missing", "not_back", "names_missing", "false_whole"):
            lines += [f"    {name.replace('_', ' ')}: {item}" for item in getattr(result, name)]
        counts: Counter[str] = Counter(
            cards=1, over_a_minute=int(took > SLOW_S), live=result.live,
            live_missing=len(result.live_missing),
            in_one_piece=result.in_one_piece, not_back=len(result.not_back),
            in_longer=result.in_longer, names=result.names,
            names_missing=len(result.names_missing), false_whole=len(result.false_whole))
        return "\n".join(lines), result, counts


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--n", type=int, default=300)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--only", default="")
    parser.add_argument("--keep", type=Path)
    parser.add_argument("--at-once", type=int, default=2, help="cards at a time")
    parser.add_argument("--quiet", action="store_true", help="only cards with something wrong")
    options = parser.parse_args()
    kinds = [k for k in history.kinds_here() if not options.only or k in options.only.split(",")]
    print("kinds that this machine writes:", ", ".join(kinds), flush=True)
    totals: Counter[str] = Counter()
    with ThreadPoolExecutor(options.at_once) as pool:
        seeds = range(options.first, options.first + options.n)
        for text, result, counts in pool.map(lambda s: one(s, kinds, options.keep), seeds):
            totals += counts
            if not options.quiet or result is None or result.wrong:
                print(text, flush=True)
    print(", ".join(f"{name.replace('_', ' ')} {count:,}" for name, count in totals.items()))


if __name__ == "__main__":
    main()
