"""The schema of a job's SQLite file, as ordered migrations from the first day.

`user_version` counts the migrations applied. A migration is never changed once released.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator

from needlewright.core.errors import JobError

APPLICATION_ID = 0x4E57_4A31  # "NWJ1"

V1 = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE sources (
  id INTEGER PRIMARY KEY, name TEXT NOT NULL, path TEXT NOT NULL UNIQUE, size INTEGER NOT NULL,
  sector_size INTEGER NOT NULL, sha256 TEXT, added REAL NOT NULL);
CREATE TABLE finds (
  id INTEGER PRIMARY KEY, source INTEGER NOT NULL REFERENCES sources(id),
  kind TEXT NOT NULL, format TEXT NOT NULL, extension TEXT NOT NULL,
  start INTEGER NOT NULL, size INTEGER NOT NULL, grade TEXT NOT NULL, share REAL NOT NULL,
  name TEXT, path TEXT, removed INTEGER, width INTEGER, height INTEGER, taken TEXT, camera TEXT,
  orientation INTEGER NOT NULL DEFAULT 1, damage_row INTEGER, found_by TEXT NOT NULL,
  extra TEXT NOT NULL DEFAULT '{}', parts TEXT NOT NULL DEFAULT '[]', preview_start INTEGER,
  preview_stop INTEGER, has_thumbnail INTEGER NOT NULL DEFAULT 0,
  UNIQUE (source, start, format));
CREATE INDEX finds_by_grade ON finds (grade, source, start);
CREATE TABLE extents (
  find INTEGER NOT NULL REFERENCES finds(id), place INTEGER NOT NULL, offset INTEGER,
  length INTEGER NOT NULL, PRIMARY KEY (find, place)) WITHOUT ROWID;
CREATE TABLE checks (
  find INTEGER NOT NULL REFERENCES finds(id), place INTEGER NOT NULL, name TEXT NOT NULL,
  outcome TEXT NOT NULL, code TEXT NOT NULL, detail TEXT NOT NULL, content INTEGER NOT NULL,
  PRIMARY KEY (find, place)) WITHOUT ROWID;
CREATE TABLE tray (find INTEGER PRIMARY KEY REFERENCES finds(id), added REAL NOT NULL);
CREATE TABLE steps (
  source INTEGER NOT NULL REFERENCES sources(id), step TEXT NOT NULL, kinds TEXT NOT NULL,
  area_start INTEGER NOT NULL, area_stop INTEGER NOT NULL, checkpoint INTEGER NOT NULL,
  ending TEXT NOT NULL, changed REAL NOT NULL, PRIMARY KEY (source, step)) WITHOUT ROWID;
CREATE TABLE tally (
  source INTEGER NOT NULL, step TEXT NOT NULL, kind TEXT NOT NULL, grade TEXT NOT NULL,
  finds INTEGER NOT NULL, bytes INTEGER NOT NULL,
  PRIMARY KEY (source, step, kind, grade)) WITHOUT ROWID;
CREATE TABLE log (
  id INTEGER PRIMARY KEY, at REAL NOT NULL, code TEXT NOT NULL, detail TEXT NOT NULL);
"""

V2 = """
ALTER TABLE finds ADD COLUMN duration REAL;
ALTER TABLE finds ADD COLUMN parent_start INTEGER;
ALTER TABLE finds ADD COLUMN parent_format TEXT;
ALTER TABLE finds ADD COLUMN has_strip INTEGER NOT NULL DEFAULT 0;
CREATE TABLE coverage (
  source INTEGER NOT NULL REFERENCES sources(id), step TEXT NOT NULL, tokens TEXT NOT NULL,
  every_byte INTEGER NOT NULL, every_frame INTEGER NOT NULL, start INTEGER NOT NULL,
  stop INTEGER NOT NULL,
  PRIMARY KEY (source, step, tokens, every_byte, every_frame, start)) WITHOUT ROWID;
"""

# What tells finds apart is no longer only where they begin: records may claim one place together.
V3 = """
CREATE TABLE finds_3 (
  id INTEGER PRIMARY KEY, source INTEGER NOT NULL REFERENCES sources(id),
  kind TEXT NOT NULL, format TEXT NOT NULL, extension TEXT NOT NULL,
  start INTEGER NOT NULL, size INTEGER NOT NULL, grade TEXT NOT NULL, share REAL NOT NULL,
  name TEXT, path TEXT, removed INTEGER, width INTEGER, height INTEGER, taken TEXT, camera TEXT,
  orientation INTEGER NOT NULL DEFAULT 1, damage_row INTEGER, found_by TEXT NOT NULL,
  extra TEXT NOT NULL DEFAULT '{}', parts TEXT NOT NULL DEFAULT '[]', preview_start INTEGER,
  preview_stop INTEGER, has_thumbnail INTEGER NOT NULL DEFAULT 0, duration REAL,
  parent_start INTEGER, parent_format TEXT, has_strip INTEGER NOT NULL DEFAULT 0,
  claim TEXT NOT NULL DEFAULT '', folder TEXT, record_at INTEGER, stated INTEGER,
  created TEXT, modified TEXT, accessed TEXT, removed_at TEXT, kept TEXT NOT NULL DEFAULT '',
  original TEXT, purge_at TEXT, encoding TEXT NOT NULL DEFAULT 'plain', content BLOB, coded TEXT,
  unproven INTEGER NOT NULL DEFAULT 0,
  UNIQUE (source, start, format, claim));
INSERT INTO finds_3 (id, source, kind, format, extension, start, size, grade, share, name, path,
  removed, width, height, taken, camera, orientation, damage_row, found_by, extra, parts,
  preview_start, preview_stop, has_thumbnail, duration, parent_start, parent_format, has_strip)
  SELECT id, source, kind, format, extension, start, size, grade, share, name, path, removed, width,
  height, taken, camera, orientation, damage_row, found_by, extra, parts, preview_start,
  preview_stop, has_thumbnail, duration, parent_start, parent_format, has_strip FROM finds;
DROP TABLE finds;
ALTER TABLE finds_3 RENAME TO finds;
CREATE INDEX finds_by_grade ON finds (grade, source, start);
CREATE INDEX finds_by_folder ON finds (source, folder, start);
CREATE TABLE volumes (
  source INTEGER NOT NULL REFERENCES sources(id), start INTEGER NOT NULL, size INTEGER NOT NULL,
  kind TEXT NOT NULL, label TEXT NOT NULL, cluster_size INTEGER NOT NULL, state TEXT NOT NULL,
  named_by TEXT NOT NULL, used BLOB NOT NULL, used_bytes INTEGER, limits TEXT NOT NULL,
  PRIMARY KEY (source, start)) WITHOUT ROWID;
"""

# Finds are known by a key and updated in place, numbers are never given out twice, what belongs to
# a find goes with it, and relations between finds have a table. Contents have one form.
V4 = """
CREATE TABLE sources_4 (
  id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL DEFAULT 'bytes', name TEXT NOT NULL,
  path TEXT NOT NULL UNIQUE, size INTEGER, sector_size INTEGER, sha256 TEXT, added REAL NOT NULL);
INSERT INTO sources_4 (id, name, path, size, sector_size, sha256, added)
  SELECT id, name, path, size, sector_size, sha256, added FROM sources;
CREATE TABLE finds_4 (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  source INTEGER NOT NULL REFERENCES sources(id) ON DELETE CASCADE, key TEXT NOT NULL,
  kind TEXT NOT NULL, format TEXT NOT NULL, extension TEXT NOT NULL,
  start INTEGER NOT NULL, size INTEGER NOT NULL, grade TEXT NOT NULL, share REAL NOT NULL,
  name TEXT, path TEXT, folder TEXT, removed INTEGER, width INTEGER, height INTEGER, taken TEXT,
  camera TEXT, orientation INTEGER NOT NULL DEFAULT 1, duration REAL, damage_row INTEGER,
  broken_at INTEGER, broken_why TEXT, found_by TEXT NOT NULL, extra TEXT NOT NULL DEFAULT '{}',
  parts TEXT NOT NULL DEFAULT '[]', preview_start INTEGER, preview_stop INTEGER,
  has_thumbnail INTEGER NOT NULL DEFAULT 0, has_strip INTEGER NOT NULL DEFAULT 0,
  content TEXT, record_at INTEGER, stated INTEGER, created TEXT, modified TEXT, accessed TEXT,
  removed_at TEXT, kept TEXT NOT NULL DEFAULT '', original TEXT, purge_at TEXT,
  unproven INTEGER NOT NULL DEFAULT 0, former INTEGER NOT NULL DEFAULT 0,
  volume INTEGER NOT NULL DEFAULT 0, UNIQUE (source, key));
INSERT INTO finds_4 (id, source, key, kind, format, extension, start, size, grade, share, name,
  path, folder, removed, width, height, taken, camera, orientation, duration, damage_row, found_by,
  extra, parts, preview_start, preview_stop, has_thumbnail, has_strip, content, record_at, stated,
  created, modified, accessed, removed_at, kept, original, purge_at, unproven)
  SELECT id, source, format || ':' || start || CASE claim WHEN '' THEN '' ELSE ':' || claim END,
  kind, format, extension, start, size, grade, share, name, path, folder, removed, width, height,
  taken, camera, orientation, duration, damage_row, found_by, extra, parts, preview_start,
  preview_stop, has_thumbnail, has_strip,
  CASE WHEN content IS NOT NULL THEN json_object('kind', 'inline', 'at', start, 'data',
      lower(hex(content)))
    WHEN coded IS NOT NULL THEN json_object('kind', 'packed', 'size', size, 'parts', json(coded))
  END,
  record_at, CASE grade WHEN 'gone' THEN stated END, created, modified, accessed, removed_at, kept,
  original, purge_at, unproven FROM finds;
CREATE TABLE extents_4 (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, place INTEGER NOT NULL,
  offset INTEGER, length INTEGER NOT NULL, PRIMARY KEY (find, place)) WITHOUT ROWID;
INSERT INTO extents_4 SELECT find, place, offset, length FROM extents
  WHERE find IN (SELECT id FROM finds);
CREATE TABLE checks_4 (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, place INTEGER NOT NULL,
  name TEXT NOT NULL, outcome TEXT NOT NULL, code TEXT NOT NULL, detail TEXT NOT NULL,
  content INTEGER NOT NULL, PRIMARY KEY (find, place)) WITHOUT ROWID;
INSERT INTO checks_4 SELECT find, place, name, outcome, code, detail, content FROM checks
  WHERE find IN (SELECT id FROM finds);
CREATE TABLE links (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE,
  other INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, relation TEXT NOT NULL,
  detail TEXT NOT NULL DEFAULT '', PRIMARY KEY (find, other, relation)) WITHOUT ROWID;
CREATE INDEX links_back ON links (other, relation);
INSERT INTO links SELECT f.id, min(p.id), 'inside', '' FROM finds f JOIN finds p
  ON p.source = f.source AND p.start = f.parent_start AND p.format = f.parent_format
  AND p.id <> f.id GROUP BY f.id;
CREATE TABLE link_waits (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, source INTEGER NOT NULL,
  key TEXT NOT NULL, relation TEXT NOT NULL, detail TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (source, key, find, relation)) WITHOUT ROWID;
CREATE TABLE reviews (
  find INTEGER PRIMARY KEY REFERENCES finds(id) ON DELETE CASCADE, tray REAL, aside REAL,
  later REAL, note TEXT NOT NULL DEFAULT '');
INSERT INTO reviews (find, tray) SELECT find, added FROM tray WHERE find IN (SELECT id FROM finds);
CREATE INDEX reviews_in_tray ON reviews (tray) WHERE tray IS NOT NULL;
CREATE TABLE review_journal (
  id INTEGER PRIMARY KEY AUTOINCREMENT, step INTEGER NOT NULL, at REAL NOT NULL,
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, field TEXT NOT NULL, was, became);
DROP TABLE extents;
DROP TABLE checks;
DROP TABLE tray;
DROP TABLE finds;
DROP TABLE sources;
ALTER TABLE sources_4 RENAME TO sources;
ALTER TABLE finds_4 RENAME TO finds;
ALTER TABLE extents_4 RENAME TO extents;
ALTER TABLE checks_4 RENAME TO checks;
CREATE INDEX finds_by_grade ON finds (grade, source, start);
CREATE INDEX finds_by_folder ON finds (source, folder, start);
CREATE INDEX finds_by_start ON finds (source, start, format);
ALTER TABLE steps ADD COLUMN state TEXT NOT NULL DEFAULT '';
CREATE INDEX finds_by_content ON finds (source, size, format);
"""

V5 = """
CREATE TABLE seams (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, place INTEGER NOT NULL,
  at INTEGER NOT NULL, word TEXT NOT NULL, reasons TEXT NOT NULL, rivals TEXT NOT NULL,
  PRIMARY KEY (find, place)) WITHOUT ROWID;
"""

V6 = """
CREATE TABLE threads (
  find INTEGER PRIMARY KEY REFERENCES finds(id) ON DELETE CASCADE, history TEXT NOT NULL);
"""

# Files on shelves are known by their paths.
V7 = """
CREATE INDEX finds_by_path ON finds (source, path) WHERE content IS NOT NULL;
"""

# What comparing the sources showed to be on a shelf alone.
V8 = """
CREATE TABLE missing (find INTEGER PRIMARY KEY REFERENCES finds(id) ON DELETE CASCADE);
"""

# Complete files that nothing proves have a grade of their own; partial ones miss a part.
V9 = """
UPDATE finds SET grade = 'unproven' WHERE grade = 'partial' AND share >= 1.0
  AND NOT EXISTS (SELECT 1 FROM checks WHERE find = finds.id AND outcome = 'fail');
UPDATE finds SET share = 0.9999 WHERE grade = 'partial' AND share >= 1.0;
DELETE FROM tally;
INSERT INTO tally SELECT source, substr(found_by, 1, instr(found_by || ',', ',') - 1), kind, grade,
  count(*), sum(size) FROM finds GROUP BY 1, 2, 3, 4;
"""

# A sum of each find's bytes as they were judged.
V10 = """
ALTER TABLE finds ADD COLUMN content_sum INTEGER;
"""

# Labels have a table, so that the next one needs no column; what lies on shelves is known by
# columns: its key as JSON has it, since a name on a shelf may be no text.
V11 = """
CREATE TABLE labels (
  find INTEGER NOT NULL REFERENCES finds(id) ON DELETE CASCADE, name TEXT NOT NULL,
  value TEXT NOT NULL, PRIMARY KEY (name, find)) WITHOUT ROWID;
CREATE INDEX labels_of_find ON labels (find);
INSERT INTO labels SELECT find, 'missing', '' FROM missing WHERE find IN (SELECT id FROM finds);
DROP TABLE missing;
ALTER TABLE finds ADD COLUMN content_kind TEXT NOT NULL DEFAULT 'stretches';
ALTER TABLE finds ADD COLUMN content_key TEXT;
UPDATE finds SET content_kind = told_in(content, 'kind'), content_key = told_in(content, 'key')
  WHERE content IS NOT NULL;
DROP INDEX finds_by_path;
CREATE INDEX finds_by_path ON finds (source, path, content_key) WHERE content_key IS NOT NULL;
"""

MIGRATIONS = (V1, V2, V3, V4, V5, V6, V7, V8, V9, V10, V11)


def migrate(database: sqlite3.Connection, path: str) -> None:
    """Bring the file up to date; JobError for one that is not ours or newer than we are."""
    version = database.execute("PRAGMA user_version").fetchone()[0]
    mark = database.execute("PRAGMA application_id").fetchone()[0]
    empty = database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0] == 0
    if mark != APPLICATION_ID and not (empty and version == 0):
        raise JobError("job-not-ours", path=path)
    if version > len(MIGRATIONS):
        raise JobError("job-newer", path=path, version=version, known=len(MIGRATIONS))
    if version < len(MIGRATIONS):
        database.execute("PRAGMA foreign_keys = OFF")  # tables are built anew beside the old
    database.create_function("told_in", 2, _told_in, deterministic=True)
    while version < len(MIGRATIONS):
        # One transaction a migration: killed in the middle, the file stays at the old version. The
        # version is asked for within it, since another program may just have done the same.
        database.execute("BEGIN IMMEDIATE")
        try:
            version = database.execute("PRAGMA user_version").fetchone()[0]
            if version < len(MIGRATIONS):
                for statement in _statements(MIGRATIONS[version]):
                    database.execute(statement)
                version += 1
                database.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                database.execute(f"PRAGMA user_version = {version}")
            database.execute("COMMIT")
        except BaseException:
            if database.in_transaction:
                database.execute("ROLLBACK")
            raise


def _told_in(content: object, name: str) -> str | None:
    """What the JSON of a content says its kind or key is; of a damaged one as little as it can."""
    try:
        told = json.loads(str(content)).get(name)
    except (ValueError, AttributeError):
        told = None
    if name == "kind":
        return told if isinstance(told, str) else "stretches"
    return json.dumps(told) if isinstance(told, str) else None


def _statements(script: str) -> Iterator[str]:
    """The statements of a script: `executescript` would end the transaction it is run in."""
    statement = ""
    for part in script.split(";"):
        statement += part + ";"
        if sqlite3.complete_statement(statement):
            yield statement
            statement = ""

