CREATE TABLE study (
  id INTEGER PRIMARY KEY CHECK (id = 1), uid TEXT NOT NULL, title TEXT NOT NULL, created_at TEXT NOT NULL,
  visit_gap_minutes INTEGER NOT NULL DEFAULT 120 CHECK (visit_gap_minutes > 0)
) STRICT;
CREATE TABLE metric (id TEXT PRIMARY KEY, unit TEXT NOT NULL, low REAL NOT NULL, high REAL NOT NULL) STRICT;
CREATE TABLE client (
  id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE CHECK (code <> ''), name TEXT NOT NULL DEFAULT '',
  sex TEXT NOT NULL DEFAULT '' CHECK (sex IN ('', 'male', 'female')), birth TEXT NOT NULL DEFAULT '',
  cautions TEXT NOT NULL DEFAULT '', usual_activity TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE TABLE instrument (
  id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE CHECK (name <> ''),
  kind TEXT NOT NULL CHECK (kind IN ('reference', 'device', 'method')), equation TEXT NOT NULL DEFAULT '',
  electrodes TEXT NOT NULL DEFAULT '', price TEXT NOT NULL DEFAULT '', exports_data INTEGER, notes TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE TABLE setting (
  id INTEGER PRIMARY KEY, instrument INTEGER NOT NULL REFERENCES instrument, client INTEGER REFERENCES client,
  label TEXT NOT NULL CHECK (label <> ''), starts TEXT NOT NULL, UNIQUE (instrument, client, label, starts)
) STRICT;
CREATE TABLE visit (
  id INTEGER PRIMARY KEY, client INTEGER NOT NULL REFERENCES client, start TEXT NOT NULL,
  age_years REAL CHECK (age_years IS NULL OR age_years BETWEEN 0 AND 130),
  height_cm REAL CHECK (height_cm IS NULL OR height_cm BETWEEN 40 AND 260),
  assessor TEXT NOT NULL DEFAULT '', notes TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX visit_client ON visit (client, start);
CREATE TABLE condition (
  visit INTEGER NOT NULL REFERENCES visit, key TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (visit, key)
) STRICT, WITHOUT ROWID;
CREATE TABLE reading (
  id INTEGER PRIMARY KEY, visit INTEGER NOT NULL REFERENCES visit, taken_at TEXT NOT NULL,
  instrument INTEGER NOT NULL REFERENCES instrument, setting INTEGER REFERENCES setting,
  metric TEXT NOT NULL REFERENCES metric, value REAL, entered TEXT NOT NULL, unit TEXT NOT NULL,
  replicate INTEGER NOT NULL CHECK (replicate >= 1),
  status TEXT NOT NULL CHECK (status IN ('ok', 'failed', 'excluded')), note TEXT NOT NULL DEFAULT '',
  source TEXT NOT NULL DEFAULT '',
  CHECK ((status = 'failed') = (value IS NULL)), CHECK (status <> 'excluded' OR note <> '')
) STRICT;
CREATE UNIQUE INDEX reading_key ON reading (visit, taken_at, instrument, ifnull(setting, 0), metric, replicate);
CREATE INDEX reading_metric ON reading (metric);
CREATE TRIGGER reading_range BEFORE INSERT ON reading WHEN NEW.value IS NOT NULL AND NOT EXISTS
  (SELECT 1 FROM metric WHERE id = NEW.metric AND NEW.value BETWEEN low AND high)
  BEGIN SELECT RAISE(ABORT, 'value outside the possible range'); END;
CREATE TRIGGER reading_range_change BEFORE UPDATE OF value, metric ON reading WHEN NEW.value IS NOT NULL AND NOT EXISTS
  (SELECT 1 FROM metric WHERE id = NEW.metric AND NEW.value BETWEEN low AND high)
  BEGIN SELECT RAISE(ABORT, 'value outside the possible range'); END;
CREATE TABLE reading_change (
  id INTEGER PRIMARY KEY, reading INTEGER NOT NULL, at TEXT NOT NULL, who TEXT NOT NULL,
  old TEXT NOT NULL, new TEXT NOT NULL, why TEXT NOT NULL
) STRICT;
CREATE INDEX reading_change_reading ON reading_change (reading);
CREATE TABLE calibration (
  id INTEGER PRIMARY KEY, instrument INTEGER NOT NULL REFERENCES instrument, metric TEXT NOT NULL REFERENCES metric,
  setting TEXT NOT NULL DEFAULT '', reference TEXT NOT NULL, model TEXT NOT NULL, parameters TEXT NOT NULL,
  range_low REAL NOT NULL, range_high REAL NOT NULL, pairs INTEGER NOT NULL, clients INTEGER NOT NULL,
  fitted_at TEXT NOT NULL, valid_until TEXT NOT NULL, version INTEGER NOT NULL, digest TEXT NOT NULL,
  UNIQUE (instrument, metric, setting, version)
) STRICT;
CREATE TRIGGER calibration_fixed BEFORE UPDATE ON calibration
  BEGIN SELECT RAISE(ABORT, 'an adopted calibration is never edited'); END;
CREATE TRIGGER calibration_kept BEFORE DELETE ON calibration
  BEGIN SELECT RAISE(ABORT, 'an adopted calibration is never deleted'); END;
CREATE TABLE calibration_mark (
  id INTEGER PRIMARY KEY, calibration INTEGER NOT NULL REFERENCES calibration, at TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('withdrawn', 'reinstated'))
) STRICT;
