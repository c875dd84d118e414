"""Which branches of each package the tests take: measured in their processes, told, and held
against `tests/branches.json`, under which no package may fall.

Not seen are decoders and other workers that start with an interpreter of their own, nor what numba
compiles.
"""

from __future__ import annotations

import json
import os
from collections import defaultdict
from pathlib import Path

import coverage

ROOT = Path(__file__).resolve().parents[1]
DATA = ROOT / "build" / "branches"
LEAST = ROOT / "tests" / "branches.json"
SLACK = 0.5  # percent; threads and drawn examples differ from run to run


def begin(name: str) -> coverage.Coverage:
    """Measure this process from now on, for the tests called `name`, whose data has a file of its
    own: a process runs many."""
    DATA.mkdir(parents=True, exist_ok=True)
    measuring = coverage.Coverage(
        data_file=str(DATA / f".coverage.{name}.{os.getpid()}"), branch=True, concurrency="thread",
        source=[str(ROOT / "src" / "needlewright")], messages=False)
    measuring.start()
    return measuring


def report(keep: bool) -> bool:
    """Tell each package's share of branches taken; whether none is lower than it was. `keep`: the
    shares become those that may not fall."""
    whole = coverage.Coverage(data_file=str(DATA / ".coverage"), branch=True,
                              source=[str(ROOT / "src" / "needlewright")], messages=False)
    whole.combine([str(DATA)])
    counted: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    told = DATA / "branches.json"
    whole.json_report(outfile=str(told))
    for name, file in json.loads(told.read_text(encoding="utf-8"))["files"].items():
        parts = Path(name).with_suffix("").parts
        parts = parts[parts.index("needlewright") + 1 :]
        package = "/".join(parts[:2] if parts[0] == "core" else parts[:1])
        counted[package][0] += file["summary"]["covered_branches"]
        counted[package][1] += file["summary"]["num_branches"]
    shares = {name: round(100 * taken / every, 1)
              for name, (taken, every) in sorted(counted.items()) if every}
    least = json.loads(LEAST.read_text(encoding="utf-8")) if LEAST.exists() else {}
    for name, share in shares.items():
        print(f"{name:<20} {share:5.1f} % of {counted[name][1]:>6,} branches"
              f"{'' if share >= least.get(name, 0.0) - SLACK else f', was {least[name]} %'}")
    if keep:
        LEAST.write_text(json.dumps(shares, indent=1) + "\n", encoding="utf-8")
    return all(share >= least.get(name, 0.0) - SLACK for name, share in shares.items())
