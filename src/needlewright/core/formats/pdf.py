"""PDF documents (ISO 32000-1, 7.5): objects, cross-reference, trailer, `%%EOF`.

A file may end several times: each update appends objects and another end, and a file made for the
web has its first end near its start. The last end that more objects do not follow is the file's.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.inflating import Inflater
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

READ_BYTES = 1 << 20
OVERLAP = 64
TOKEN_ROOM, TAIL_BYTES = 1 << 12, 1 << 13
MAX_BYTES = 2 << 30
MAX_INFLATE = 64 << 20  # bytes that one stream may inflate to
MAX_ENTRIES = 1 << 20
TOKEN = re.compile(
    rb"%%EOF|(?<![0-9])([0-9]{1,10}) ([0-9]{1,5}) obj\b|endobj\b|endstream\b|(?<!end)stream\r?\n|"
    rb"\bstartxref\b|/Linearized\b")
LENGTH = re.compile(rb"/Length\s+([0-9]{1,10})(?!\s+[0-9]+\s+R)")
LINEAR_LENGTH = re.compile(rb"/L\s+([0-9]{1,10})")
AFTER_END = re.compile(rb"\s*(?:[0-9]{1,10} [0-9]{1,5} obj\b|xref\b|%|startxref\b)")
MAX_DICTIONARY = 1 << 16


@dataclass(slots=True)
class _State:
    view: View
    at: int
    objects: int = 0
    open_object: int | None = None
    places: dict[int, int] = field(default_factory=dict)  # object -> where it stands
    streams: int = 0
    checked: int = 0  # streams that were inflated to their own checksum
    linear_stop: int | None = None
    end: int | None = None
    parts: Parts = field(default_factory=Parts)


def _tokens(state: _State) -> None:
    """Follow objects to the last end of the file; FormatError where something else begins."""
    view = state.view
    base = state.at
    read_at, held = base, b""
    while base < min(view.stop, view.start + MAX_BYTES):
        if not held or base + TOKEN_ROOM > read_at + len(held) or base < read_at:
            read_at, held = base, view.source.read_at(base, min(READ_BYTES, view.stop - base))
        block = held[base - read_at :]
        match = TOKEN.search(block)
        if match is None or (match.end() == len(block) and base + len(block) < view.stop
                             and match.start() > 0):
            last = len(block) < READ_BYTES
            if match is None and (last or _not_text(block)):
                raise FormatError("no-object", offset=base)
            base += max(1, len(block) - OVERLAP) if match is None else match.start()
            continue
        place = base + match.start()
        word = match.group()
        # Between objects stands next to nothing, inside them mostly text.
        if state.objects and word != b"endstream" and not _is_table(block[: match.start()]):
            raise FormatError("no-object", offset=base)
        base = _take(state, word, place, base + match.end())
        state.at = base
        if state.end is not None:
            return
    raise FormatError("data-ends", offset=min(view.stop, view.start + MAX_BYTES))


def _not_text(block: bytes) -> bool:
    sample = block[:4096]
    return len(sample) > 64 and sum(b > 126 or b < 9 for b in sample) > len(sample) * 0.3


def _is_table(block: bytes) -> bool:
    return len(block) <= 64 or not _not_text(block)


def _take(state: _State, word: bytes, place: int, behind: int) -> int:
    """Take in one token; the place where the next is looked for."""
    if word == b"%%EOF":
        return _eof(state, place, behind)
    if word.endswith(b"obj") and word != b"endobj":
        if state.open_object is not None and state.objects:
            raise FormatError("object-unended", offset=state.open_object)
        state.open_object = place
        state.objects += 1
        if len(state.places) < MAX_ENTRIES:
            state.places[int(word.split()[0])] = place
    elif word == b"endobj":
        state.open_object = None
    elif word.startswith(b"stream"):
        return _stream(state, place, behind)
    elif word == b"/Linearized":
        found = LINEAR_LENGTH.search(state.view.peek(place - 128, 512))
        if found and state.objects <= 1:
            state.linear_stop = state.view.start + int(found.group(1))
    return behind


def _stream(state: _State, place: int, data: int) -> int:
    """Step over a stream by its length where the contents bear it out, else search on."""
    view = state.view
    if state.open_object is None:
        return data
    state.streams += 1
    head = view.take(state.open_object, min(place - state.open_object, MAX_DICTIONARY))
    found = LENGTH.search(head)
    if found is None:
        return data
    stop = data + int(found.group(1))
    if stop > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    if not view.peek(stop, 16).lstrip(b"\r\n ").startswith(b"endstream"):
        raise FormatError("stream-length-wrong", offset=data)
    if b"FlateDecode" in head and b"/Filter" in head and _first_filter(head) == b"FlateDecode":
        if not _inflates(view, data, stop):
            raise FormatError("stream-does-not-inflate", offset=data)
        state.checked += 1
    elif _first_filter(head) == b"DCTDecode" and stop > data:
        if not _is_jpeg(view, data, stop):
            raise FormatError("picture-inside-damaged", offset=data)
        state.checked += 1
    return stop


def _is_jpeg(view: View, start: int, stop: int) -> bool:
    try:
        walk = jpeg.walk(view.source, start, stop)
    except FormatError:
        return False
    return walk.broken is None and walk.ended


def _first_filter(head: bytes) -> bytes:
    found = re.search(rb"/Filter\s*\[?\s*/(\w+)", head)
    return found.group(1) if found else b""


def _inflates(view: View, start: int, stop: int) -> bool:
    inflater, at = Inflater(MAX_INFLATE), start
    try:
        while at < stop and not inflater.ended:
            block = view.source.read_at(at, min(READ_BYTES, stop - at))
            if not block:
                return False
            at += len(block)
            for _ in inflater.feed(block):
                pass
            if inflater.too_much:
                return True  # more than is worth inflating
    except FormatError:
        return False
    return inflater.ended


def _eof(state: _State, place: int, behind: int) -> int:
    view = state.view
    line = view.peek(behind, 2)
    end = behind + (2 if line == b"\r\n" else 1 if line[:1] in (b"\n", b"\r") else 0)
    if state.linear_stop is not None and end < state.linear_stop <= view.stop:
        if state.linear_stop - end > 16:
            return behind
        end = state.linear_stop
    elif AFTER_END.match(view.peek(end, 64)) and view.peek(end, 5) != b"%PDF-":
        return behind  # an update follows
    state.end = end
    return end


def _check_reference(state: _State) -> Check:
    """Whether `startxref` and the table it names lead to objects (7.5.4-7.5.5)."""
    view, name = state.view, "index"
    assert state.end is not None
    tail_at = max(view.start, state.end - 2048)
    tail = view.take(tail_at, state.end - tail_at)
    found = re.search(rb"startxref\s+([0-9]{1,12})\s+%%EOF\s*$", tail)
    if not found:
        return Check(name, Outcome.FAIL, "index-missing")
    table = view.start + int(found.group(1))
    head = view.peek(table, 32)
    if re.match(rb"\s*[0-9]+ [0-9]+ obj", head):
        return Check(name, Outcome.PASS, "reference-leads", {"objects": state.objects})
    section = re.match(rb"\s*xref\s+([0-9]+) ([0-9]+)\s*?\r?\n", view.peek(table, 64))
    if section is None:
        return Check(name, Outcome.FAIL, "reference-astray", {"objects": 0})
    at, count = table + section.end(), min(int(section.group(2)), MAX_ENTRIES)
    first = int(section.group(1))
    for index in range(count):
        entry = view.peek(at + 20 * index, 20)
        if entry[17:18] != b"n":
            continue
        where = view.start + int(entry[:10]) if entry[:10].isdigit() else view.stop
        wanted = rb"\s*%d [0-9]+ obj" % (first + index)
        if not re.match(wanted, view.peek(where, 32)):
            return Check(name, Outcome.FAIL, "reference-astray", {"objects": first + index})
    return Check(name, Outcome.PASS, "reference-leads", {"objects": state.objects})


def _check_pages(state: _State) -> Check:
    """Whether a trailer or a table names the catalogue, and that the pages (7.5.5, 7.7.2)."""
    view, name = state.view, "pages"
    assert state.end is not None
    tail = view.peek(max(view.start, state.end - TAIL_BYTES), TAIL_BYTES)
    found = re.search(rb"startxref\s+([0-9]{1,12})", tail)
    table = view.start + int(found.group(1)) if found else view.stop
    near = view.peek(table, TAIL_BYTES) + tail
    roots = re.findall(rb"/Root\s+([0-9]{1,10}) [0-9]+ R", near)
    if not roots:
        return Check(name, Outcome.FAIL, "root-missing")
    place = state.places.get(int(roots[-1]))
    if place is None:  # it may be packed into a stream of objects, where the table is one as well
        packed = re.match(rb"\s*[0-9]+ [0-9]+ obj", view.peek(table, 32)) is not None
        return Check(name, Outcome.PASS if packed else Outcome.FAIL,
                     "root-leads" if packed else "root-missing")
    catalogue = view.peek(place, MAX_DICTIONARY)
    tree = re.search(rb"/Pages\s+([0-9]{1,10}) [0-9]+ R", catalogue)
    leads = tree is not None and (int(tree.group(1)) in state.places or b"/ObjStm" in near)
    return Check(name, Outcome.PASS if leads else Outcome.FAIL,
                 "root-leads" if leads else "root-missing")


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the document at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    state = _State(view, start + 8)
    problem: FormatError | None = None
    try:
        _tokens(state)
    except FormatError as error:
        problem = error
    if not state.objects:
        raise problem or FormatError("no-document", offset=start)
    end = state.end if state.end is not None and problem is None else min(
        view.stop, max(state.at, problem.offset if problem else 0))
    state.parts.add("objects", start, end)
    index = _check_reference(state) if problem is None else Check(
        "index", Outcome.FAIL, "index-missing")
    pages = [_check_pages(state)] if problem is None else []
    coded = [Check("coded data", Outcome.PASS, "streams-inflate", {"streams": state.checked},
                   content=True)] if state.checked and problem is None else []
    if problem is None and not state.checked:
        coded = [Check("objects", Outcome.PASS, "objects-complete", {"objects": state.objects},
                       content=True)]
    share = 0.5
    if state.linear_stop:
        share = (end - start) / max(1, state.linear_stop - start)
    return finish(
        start, end, problem, Facts(), state.parts,
        (structure(problem, start, state.objects), index, *pages, *coded,
         end_mark(problem is None)),
        share=1.0 if problem is None else share,
        guessed=problem is not None and not state.linear_stop,
        verified=state.at if problem else None)


register(Format(
    name="pdf", kind=Kind.DOCUMENT, extension="pdf", signatures=(Signature(b"%PDF-1."),
                                                                 Signature(b"%PDF-2.")),
    accept=lambda head: head[:7] in (b"%PDF-1.", b"%PDF-2.") and head[7:8].isdigit(), walk=walk,
    joined="around",
))
