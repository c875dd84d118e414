"""Turns a folder of files into a bag, in a process of its own.

The bagit package changes the working directory of the whole process while it works, which must not
happen to a program with a window and threads. Started as a module with FOLDER and the process it
works for, it bags FOLDER/payload as FOLDER/bag and adds the tag files in FOLDER/tags; the tag
manifest is saved last, so that it covers them.
"""

from __future__ import annotations

import json
import logging
import os
import sys
from pathlib import Path

import bagit

from needlewright.core.processes import end_with_parent


def main(folder: str) -> None:
    """Make the bag; any failure ends with a line on standard error and status 1."""
    logging.getLogger("bagit").setLevel(logging.CRITICAL)
    place = Path(folder).absolute()
    bag_folder = place / "bag"
    os.rename(place / "payload", bag_folder)
    info = json.loads((place / "info.json").read_text(encoding="utf-8"))
    bag = bagit.make_bag(str(bag_folder), info, checksums=["sha256"])
    # A delivery without files still needs its manifest (RFC 8493, 2.1.3), which bagit leaves off.
    (bag_folder / "manifest-sha256.txt").touch()
    for tag in sorted((place / "tags").iterdir()):
        os.rename(tag, bag_folder / tag.name)
    bag.save()


if __name__ == "__main__":
    end_with_parent(int(sys.argv[2]))
    try:
        main(sys.argv[1])
    except (OSError, bagit.BagError) as error:
        sys.exit(str(error))
