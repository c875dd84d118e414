"""The step *files*: every file of a shelf as it is, with its name, its path and its date.

The same walks, decoders and grades as of what is searched for; nothing is looked for inside.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace

from needlewright.core.contents import ShelfObject
from needlewright.core.errors import SourceError
from needlewright.core.finds import Find, Record
from needlewright.core.search.events import Ending, Event, Finished, Found, Note, Progress
from needlewright.core.search.examining import STEP, examine
from needlewright.core.search.pace import progress_of
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.sources.shelf import Shelf, Shelved
from needlewright.core.volumes.stamps import unix


def run(context: Context) -> Iterator[Event]:
    """Look at the files whose places are in the area of `context`, from `begin` on."""
    shelf, area, stop = context.source, context.area, context.stop
    assert isinstance(shelf, Shelf)
    every = [e for e in shelf.entries() if e.file is not None and area.start <= e.at < area.stop
             and e.path.startswith(f"{context.plan.folder}/" if context.plan.folder else "")]
    wanted = [e for e in every if e.at >= context.begin]
    settled = len(every) - len(wanted)
    begun, reached = time.monotonic(), context.begin
    yield Progress(STEP, reached - area.start, area.size, reached, files=(settled, len(every)))
    examined = examine((entry.file for entry in wanted if entry.file), stop)
    for entry, done in zip(wanted, examined, strict=False):
        if stop.is_set():
            break
        if done.find is None:
            error = done.error or SourceError("source-missing", path=entry.path)
            yield Note("file-unread", {"path": entry.path, "problem": {
                "code": error.code, **error.values}})
        elif context.plan.takes(done.find.kind, done.find.format):
            yield Found(_shelved(done.find, entry))
        reached = min(area.stop, entry.at + max(1, entry.size))
        settled += 1
        # Places are wider than small files are long: their bytes would tell nothing to anybody.
        yield replace(progress_of(STEP, context, reached, begun), files=(settled, len(every)))
    done_all = not stop.is_set()
    yield Finished(STEP, Ending.DONE if done_all else Ending.STOPPED,
                   area.stop if done_all else reached)


def _shelved(find: Find, entry: Shelved) -> Find:
    """`find` as a file that is there, under the path that its shelf has it at."""
    modified = unix(*divmod(entry.modified_ns, 1_000_000_000))
    return replace(
        find, content=ShelfObject(entry.key, entry.size), path=entry.path, removed=False,
        name=entry.path.rpartition("/")[2], broken=None,
        record=Record(entry.at, modified=None if modified is None else modified.text()))


register(Step(STEP, 5, run, suits="files"))
