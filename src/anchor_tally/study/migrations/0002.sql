ALTER TABLE client ADD COLUMN scans_before INTEGER CHECK (scans_before IS NULL OR scans_before >= 0);
ALTER TABLE client ADD COLUMN last_scan TEXT NOT NULL DEFAULT '';
ALTER TABLE client ADD COLUMN notes TEXT NOT NULL DEFAULT '';
CREATE TABLE client_height (
  id INTEGER PRIMARY KEY, client INTEGER NOT NULL REFERENCES client, day TEXT NOT NULL,
  height_cm REAL NOT NULL CHECK (height_cm BETWEEN 40 AND 260), entered TEXT NOT NULL, unit TEXT NOT NULL,
  UNIQUE (client, day)
) STRICT;
ALTER TABLE instrument ADD COLUMN position INTEGER NOT NULL DEFAULT 0;
ALTER TABLE instrument ADD COLUMN repeats INTEGER NOT NULL DEFAULT 3 CHECK (repeats BETWEEN 1 AND 5);
CREATE TABLE instrument_metric (
  instrument INTEGER NOT NULL REFERENCES instrument, metric TEXT NOT NULL REFERENCES metric,
  resolution REAL CHECK (resolution IS NULL OR resolution > 0), PRIMARY KEY (instrument, metric)
) STRICT, WITHOUT ROWID;
CREATE TABLE check_weight (
  id INTEGER PRIMARY KEY, instrument INTEGER NOT NULL REFERENCES instrument, taken_at TEXT NOT NULL,
  nominal_kg REAL NOT NULL CHECK (nominal_kg > 0), shown_kg REAL NOT NULL CHECK (shown_kg >= 0),
  entered TEXT NOT NULL, unit TEXT NOT NULL, note TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE TABLE protocol_item (
  key TEXT PRIMARY KEY CHECK (key <> ''), asked INTEGER NOT NULL CHECK (asked IN (0, 1))
) STRICT, WITHOUT ROWID;
CREATE TABLE assessor_value (
  id INTEGER PRIMARY KEY, assessor TEXT NOT NULL CHECK (assessor <> ''), day TEXT NOT NULL,
  metric TEXT NOT NULL REFERENCES metric, person TEXT NOT NULL CHECK (person <> ''), repeat INTEGER NOT NULL CHECK (repeat >= 1),
  value REAL NOT NULL, entered TEXT NOT NULL, unit TEXT NOT NULL, UNIQUE (assessor, day, metric, person, repeat)
) STRICT;
DROP INDEX reading_metric;
CREATE INDEX reading_metric ON reading (metric, instrument);
