-- Up to ten repeats, and what counts of them: the mean when they agree (else the median), mean, median, or the last one.
CREATE TEMP TABLE kept_number AS SELECT seq FROM main.sqlite_sequence WHERE name = 'instrument';
CREATE TABLE instrument_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE CHECK (name <> ''),
  kind TEXT NOT NULL CHECK (kind IN ('reference', 'device', 'method')), equation TEXT NOT NULL DEFAULT '',
  electrodes TEXT NOT NULL DEFAULT '', price TEXT NOT NULL DEFAULT '', exports_data INTEGER, notes TEXT NOT NULL DEFAULT '',
  position INTEGER NOT NULL DEFAULT 0, repeats INTEGER NOT NULL DEFAULT 3 CHECK (repeats BETWEEN 1 AND 10),
  walk TEXT NOT NULL DEFAULT 'down' CHECK (walk IN ('down', 'across')),
  counts TEXT NOT NULL DEFAULT 'agree' CHECK (counts IN ('agree', 'mean', 'median', 'last'))
) STRICT;
INSERT INTO instrument_new SELECT id, name, kind, equation, electrodes, price, exports_data, notes, position, repeats, walk, 'agree'
  FROM instrument;
DROP TABLE instrument;
ALTER TABLE instrument_new RENAME TO instrument;
DELETE FROM main.sqlite_sequence WHERE name = 'instrument';
INSERT INTO main.sqlite_sequence SELECT 'instrument', seq FROM temp.kept_number;
DROP TABLE temp.kept_number;
-- What was chosen for a station: its sites, what makes readings comparable, the unit typed, repeats and what counts of them.
CREATE TABLE station (
  id TEXT PRIMARY KEY CHECK (id <> ''), metrics TEXT NOT NULL DEFAULT '', setting TEXT NOT NULL DEFAULT '',
  unit TEXT NOT NULL DEFAULT '', repeats INTEGER NOT NULL DEFAULT 2 CHECK (repeats BETWEEN 1 AND 10),
  counts TEXT NOT NULL DEFAULT 'agree' CHECK (counts IN ('agree', 'mean', 'median', 'last'))
) STRICT, WITHOUT ROWID;
-- The study's own landmark of a site; readings keep it with their setting.
CREATE TABLE landmark (
  metric TEXT PRIMARY KEY REFERENCES metric, words TEXT NOT NULL CHECK (words <> '')
) STRICT, WITHOUT ROWID;
-- Conditions of the study's own, other answers wanted, and what one instrument wants otherwise.
ALTER TABLE protocol_item ADD COLUMN wanted TEXT NOT NULL DEFAULT '';
ALTER TABLE protocol_item ADD COLUMN label TEXT NOT NULL DEFAULT '';
ALTER TABLE protocol_item ADD COLUMN breach TEXT NOT NULL DEFAULT '';
CREATE TABLE instrument_condition (
  instrument INTEGER NOT NULL REFERENCES instrument, key TEXT NOT NULL CHECK (key <> ''), wanted TEXT NOT NULL CHECK (wanted <> ''),
  PRIMARY KEY (instrument, key)
) STRICT, WITHOUT ROWID;
ALTER TABLE client ADD COLUMN cycle INTEGER NOT NULL DEFAULT 0 CHECK (cycle IN (0, 1));
-- Files beside a visit: only their place and checksum; they leave the study in no export.
CREATE TABLE attachment (
  id INTEGER PRIMARY KEY AUTOINCREMENT, visit INTEGER NOT NULL REFERENCES visit, path TEXT NOT NULL CHECK (path <> ''),
  sha256 TEXT NOT NULL, added_at TEXT NOT NULL, UNIQUE (visit, path)
) STRICT;
-- What was decided about a finding of the review, with its reason.
CREATE TABLE decision (
  key TEXT PRIMARY KEY CHECK (key <> ''), decision TEXT NOT NULL CHECK (decision IN ('keep', 'exclude', 'again')), reason TEXT NOT NULL, at TEXT NOT NULL
) STRICT, WITHOUT ROWID;
