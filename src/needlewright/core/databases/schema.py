"""What a CREATE TABLE statement says of the columns of its rows (sqlite.org: lang_createtable,
datatype3)."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass, field

from needlewright.core.databases.records import Value

TOKEN = re.compile(
    r"""\s+|--[^\n]*|/\*.*?(?:\*/|$)|(?P<quoted>"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]|'(?:[^']|'')*')
    |(?P<word>[^\W\d][\w$]*)|(?P<number>\d[\w.]*(?:[eE][+-]?\d+)?|\.\d+)|(?P<sign>.)""",
    re.DOTALL | re.VERBOSE)
TABLE_WORDS = frozenset(("CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"))
COLUMN_WORDS = frozenset(("CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT",
                          "COLLATE", "REFERENCES", "GENERATED", "AS", "ON", "DEFERRABLE"))
MAX_SQL = 1 << 20


@dataclass(slots=True)
class Column:
    """A column. `affinity`: INTEGER, TEXT, BLOB, REAL or NUMERIC; `virtual`: it is not stored."""

    name: str
    declared: str = ""
    affinity: str = "BLOB"
    not_null: bool = False
    default: Value = None
    virtual: bool = False


@dataclass(slots=True)
class Table:
    """A table. `alias`: index of the column that is the row number, None without; `stored`: indexes
    of columns in the order in which a record holds them; `root`: its first page, 0 for one that
    was dropped."""

    name: str
    root: int
    columns: list[Column] = field(default_factory=list)
    alias: int | None = None
    without_rowid: bool = False
    stored: list[int] = field(default_factory=list)
    seen: dict[int, set[str]] = field(default_factory=dict)  # kinds of values of live rows
    usual: dict[int, set[int]] = field(default_factory=dict)  # their serial types, if few

    @property
    def shown(self) -> list[int]:
        """Indexes of the columns that are stored, in the order of the table."""
        return [i for i, column in enumerate(self.columns) if not column.virtual]


def affinity_of(declared: str) -> str:
    """By the rules of datatype3, 3.1."""
    upper = declared.upper()
    if "INT" in upper:
        return "INTEGER"
    if any(part in upper for part in ("CHAR", "CLOB", "TEXT")):
        return "TEXT"
    if "BLOB" in upper or not upper:
        return "BLOB"
    return "REAL" if any(part in upper for part in ("REAL", "FLOA", "DOUB")) else "NUMERIC"


def read_table(name: str, root: int, sql: str) -> Table | None:
    """The table that `sql` creates; None for what is no ordinary table."""
    tokens = _tokens(sql[:MAX_SQL])
    upper = [t.upper() for t in tokens]
    if upper[:1] != ["CREATE"] or "TABLE" not in upper[:3] or "VIRTUAL" in upper[:3]:
        return None
    if "(" not in tokens:
        return None
    start = tokens.index("(")
    stop = _closing(tokens, start)
    table = Table(name, root)
    rest = upper[stop + 1 :]
    table.without_rowid = ("WITHOUT", "ROWID") in itertools.pairwise(rest)
    keys: list[str] = []
    descending = False
    for part in _split(tokens[start + 1 : stop]):
        if not part:
            continue
        if part[0].upper() in TABLE_WORDS:
            if found := _table_key(part):
                keys = found
            continue
        column = _column(part)
        key = _after(part, "PRIMARY", "KEY")
        if key is not None:
            keys = [column.name]
            descending = part[key : key + 1] != [] and part[key].upper() == "DESC"
        table.columns.append(column)
    _order(table, keys, descending)
    return table


def _order(table: Table, keys: list[str], descending: bool) -> None:
    """Set the row number and the order of the columns in records (2.3, 2.4)."""
    names = [c.name.lower() for c in table.columns]
    places = list(dict.fromkeys(names.index(k.lower()) for k in keys if k.lower() in names))
    shown = table.shown
    if table.without_rowid:
        for place in places:
            table.columns[place].not_null = True
        table.stored = places + [i for i in shown if i not in places]
        return
    table.stored = shown
    if len(places) == 1 and not descending and (
            table.columns[places[0]].declared.upper() == "INTEGER"):
        table.alias = places[0]


def _tokens(sql: str) -> list[str]:
    """Words, signs and quoted names; comments and spaces are left out. Quotes stay."""
    return [m.group() for m in TOKEN.finditer(sql) if m.lastgroup is not None]


def _closing(tokens: list[str], start: int) -> int:
    depth = 0
    for at in range(start, len(tokens)):
        depth += (tokens[at] == "(") - (tokens[at] == ")")
        if depth == 0:
            return at
    return len(tokens)


def _split(tokens: list[str]) -> list[list[str]]:
    """The parts between commas that are in no brackets."""
    parts: list[list[str]] = [[]]
    depth = 0
    for token in tokens:
        depth += (token == "(") - (token == ")")
        if token == "," and depth == 0:
            parts.append([])
        else:
            parts[-1].append(token)
    return parts


def _name(token: str) -> str:
    if len(token) > 1 and token[0] in "\"`'" and token[-1] == token[0]:
        return token[1:-1].replace(token[0] * 2, token[0])
    return token[1:-1] if token[:1] == "[" else token


def _after(part: list[str], *words: str) -> int | None:
    """The place behind these words in a row, outside of brackets."""
    depth = 0
    for at, token in enumerate(part):
        depth += (token == "(") - (token == ")")
        if depth == 0 and tuple(t.upper() for t in part[at : at + len(words)]) == words:
            return at + len(words)
    return None


def _table_key(part: list[str]) -> list[str]:
    """The columns of PRIMARY KEY (…)."""
    at = _after(part, "PRIMARY", "KEY")
    if at is None or part[at : at + 1] != ["("]:
        return []
    inside = part[at + 1 : _closing(part, at)]
    return [_name(piece[0]) for piece in _split(inside) if piece]


def _column(part: list[str]) -> Column:
    column = Column(_name(part[0]))
    at, depth, words = 1, 0, []
    while at < len(part):
        token = part[at]
        if depth == 0 and token.upper() in COLUMN_WORDS:
            break
        depth += (token == "(") - (token == ")")
        words.append(_name(token))
        at += 1
    column.declared = " ".join(words).replace(" ( ", "(").replace(" )", ")")
    column.affinity = affinity_of(column.declared)
    column.not_null = _after(part, "NOT", "NULL") is not None
    generated = _after(part[at:], "AS")
    column.virtual = generated is not None and _after(part[at:], "STORED") is None
    default = _after(part, "DEFAULT")
    if default is not None:
        column.default = _literal(part[default:], column.affinity)
    return column


def _literal(tokens: list[str], affinity: str) -> Value:
    """A value that is written down; None for an expression."""
    sign = 1
    while tokens and tokens[0] in ("(", "+", "-"):
        sign = -sign if tokens[0] == "-" else sign
        tokens = tokens[1:]
    if not tokens:
        return None
    token = tokens[0]
    if token[0] in "'\"":
        return _name(token)
    if token.upper() in ("TRUE", "FALSE"):
        return int(token.upper() == "TRUE")
    try:
        number: Value = sign * int(token, 0)
    except ValueError:
        try:
            number = sign * float(token)
        except ValueError:
            return None
    if affinity == "TEXT":
        return str(number)
    return float(number) if affinity == "REAL" and number is not None else number
