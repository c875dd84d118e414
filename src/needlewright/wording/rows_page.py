"""The page of a database's rows: messages and calls in order of time, other tables as tables."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING
from urllib.parse import quote

from needlewright.wording import rows as words
from needlewright.wording import units

if TYPE_CHECKING:
    from collections.abc import Sequence

    from needlewright.core.delivery.rows_folder import Sheet, Shown

PICTURES = (".jpg", ".jpeg", ".png", ".gif", ".webp")
STYLE = """
body { font: 15px/1.5 Lato, sans-serif; color: #24272b; background: #f7f6f3; margin: 32px auto;
       max-width: 960px; padding: 0 24px }
h1 { font-size: 22px } h2 { font-size: 17px; margin-top: 32px }
.said { background: #fff; border: 1px solid #d5d3cc; border-radius: 6px; padding: 8px 14px;
        margin: 8px 0 }
.removed, .older { border-style: dashed; border-color: #7a4b66 }
.muted { color: #63676d; font-size: 13px }
table { border-collapse: collapse; width: 100%; background: #fff }
th, td { border: 1px solid #d5d3cc; padding: 4px 8px; text-align: left; vertical-align: top;
         overflow-wrap: anywhere }
img { max-width: 320px; max-height: 240px; display: block; margin-top: 6px }
"""
LEAD = "Read from {name}. Dates that are kept as numbers were reckoned, and are in UTC."
MORE = "{more:,} more are in {file}."


def page(name: str, sheets: Sequence[Sheet]) -> str:
    """A whole page; needs nothing from elsewhere."""
    parts = [f"<h1>{_safe(name)}</h1>", f'<p class="muted">{_safe(LEAD.format(name=name))}</p>']
    for sheet in sheets:
        link = f'<a href="{quote(sheet.file)}">{_safe(sheet.file)}</a>'
        count = units.count(len(sheet.rows) + sheet.more, "row")
        parts.append(f'<h2>{_safe(sheet.table)}</h2><p class="muted">{count} &nbsp; {link}</p>')
        talks = [s for s in sheet.rows if s.talk is not None]
        if len(talks) * 2 > len(sheet.rows):
            parts += [_said(s) for s in sorted(talks, key=_moment)]
            rest = [s for s in sheet.rows if s.talk is None]
            parts.append(_table(rest) if rest else "")
        else:
            parts.append(_table(sheet.rows))
        if sheet.more:
            parts.append(f"<p>{_safe(MORE.format(more=sheet.more, file=sheet.file))}</p>")
    return ('<!doctype html><html lang="en"><head><meta charset="utf-8">'
            "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; "
            "img-src 'self' file:; style-src 'unsafe-inline'\">"
            f"<title>{_safe(name)}</title><style>{STYLE}</style></head><body>"
            + "\n".join(parts) + "</body></html>\n")


def _moment(shown: Shown) -> tuple[bool, str]:
    when = shown.talk.when if shown.talk is not None else ""
    return not when, when


def _said(shown: Shown) -> str:
    talk = shown.talk
    assert talk is not None
    call = "" if talk.seconds is None else f", call of {units.duration(talk.seconds)}"
    state = "" if shown.row.state == "live" else f"{shown.row.state}: "
    text = "<br>".join(_safe(line) for line in talk.text.splitlines())
    return (f'<div class="said {shown.row.state}"><b>{_safe(talk.whom)}</b> '
            f'<span class="muted">{_safe(talk.when or "no date")}{_safe(call)}</span>'
            f"<div>{text}</div>{''.join(map(_file, shown.files.values()))}"
            f'<div class="muted">{state}{_where(shown)}</div></div>')


def _table(rows: Sequence[Shown]) -> str:
    if not rows:
        return ""
    heads = "".join(f"<th>{_safe(name)}</th>" for name in rows[0].row.columns)
    lines = []
    for shown in rows:
        cells = "".join(
            f"<td>{_file(shown.files[name]) if name in shown.files else _cell(shown, name, value)}"
            "</td>" for name, value in zip(shown.row.columns, shown.row.values))
        lines.append(f"<tr><td>{shown.row.state}</td>{cells}"
                     f'<td class="muted">{_where(shown)}</td>'
                     "</tr>")
    return f"<table><tr><th></th>{heads}<th></th></tr>{''.join(lines)}</table>"


def _cell(shown: Shown, name: str, value: object) -> str:
    if name in shown.row.lost:
        return "<i>not known</i>"
    if isinstance(value, bytes):
        return f"[{units.size(len(value))}]"
    return "" if value is None else _safe(str(value))


def _file(file: str) -> str:
    shown = f'<img src="{quote(file)}" alt="">' if file.lower().endswith(PICTURES) else ""
    return f'<div><a href="{quote(file)}">{_safe(file.rpartition("/")[2])}</a>{shown}</div>'


def _where(shown: Shown) -> str:
    """Where a row stands that is not in its place any more, and what is doubted of it."""
    if shown.row.state == "live":
        return ""
    doubts = "".join(f"; {words.DOUBTS.get(code, code)}" for code in shown.row.doubts)
    return _safe(words.evidence(shown.row) + doubts)


def _safe(text: str) -> str:
    return html.escape(text.encode("utf-8", "replace").decode())
