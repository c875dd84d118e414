"""`python -m needlewright.standins.sync DESCRIPTION.json CONTROL`: runs the folder, headless.

DESCRIPTION: {"top", "versions", "faults": {…}}. Prints one line of JSON when it is ready: the
address that it is reached at. Its owner puts it out of reach with `down` and `up`.
"""

from __future__ import annotations

import hashlib
import json
import os
import sys
from pathlib import Path

from cheroot import wsgi

from needlewright.core import processes
from needlewright.standins.control import serve_control
from needlewright.standins.sync.app import Owner, SyncApp
from needlewright.standins.sync.faults import SyncFaults


def _say_nothing(*_: object, **__: object) -> None:
    """A broken connection is meant."""


def main(description: str, control: str) -> None:
    """Run it until whoever started it ends."""
    processes.end_with_parent(os.getppid())
    told = json.loads(Path(description).read_text(encoding="utf-8"))
    top = Path(told["top"])
    app = SyncApp(top, Path(told["versions"]), SyncFaults(**told.get("faults", {})))
    server = wsgi.Server(("127.0.0.1", 0), app)
    server.error_log = _say_nothing  # type: ignore[method-assign]
    server.prepare()
    truth = {str(path.relative_to(top)): hashlib.sha256(path.read_bytes()).hexdigest()
             for path in top.rglob("*") if path.is_file()}
    serve_control(control, Owner(app), lambda: truth)
    print(json.dumps({"address": f"dav+http://127.0.0.1:{server.bind_addr[1]}"}), flush=True)
    server.serve()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
