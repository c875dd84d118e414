"""`python -m benchmarks.killed`: kills a copy at 20 random moments, then lets it finish."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from needlewright.core.sources import map_file
from needlewright.core.sources.read_map import State
from needlewright.standins.faults import Faults
from needlewright.standins.start import CardReader

SIZE = 48 << 20
BAD = [((5 << 20) + 1024, 2048), (20 << 20, 512)]
KILLS = 20


def main() -> None:
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        content = random.Random(2).randbytes(SIZE)
        (folder / "card.img").write_bytes(content)
        faults = Faults(bad=BAD, slow=[(0, SIZE, 0.25)], fail_s=0.02)
        with CardReader(folder / "card.img", faults) as reader:
            command = [sys.executable, "-m", "needlewright", "image", reader.url, "--job",
                       str(folder / "job")]
            rng, unfinished = random.Random(8), 0
            for _ in range(KILLS):
                child = subprocess.Popen(command, stdout=subprocess.DEVNULL,
                                         stderr=subprocess.DEVNULL)
                time.sleep(rng.uniform(0.3, 2.0))
                unfinished += child.poll() is None
                child.send_signal(signal.SIGKILL)
                child.wait()
            done = subprocess.run(command, capture_output=True, text=True, check=True)
        image = Path(done.stdout.splitlines()[-1])
        want = bytearray(content)
        for start, length in BAD:
            want[start : start + length] = bytes(length)
        kept = map_file.load(image)
        assert kept is not None
        lost = kept.states.total(State.UNREADABLE)
        print(f"{unfinished} of {KILLS} kills met an unfinished copy; equals the truth: "
              f"{image.read_bytes() == bytes(want)}, unreadable {lost} bytes of "
              f"{sum(length for _, length in BAD)}")


if __name__ == "__main__":
    main()
