-- Ids are never used again, moments are kept as instants, identical settings are one, simulated readings are marked, and
-- an adopted calibration stands on its own: it outlives the instrument's row when an import is taken back.
-- Run with foreign keys off; instant_of, timed_of and canonical come from domain/instants.py.
ALTER TABLE study ADD COLUMN zone TEXT NOT NULL DEFAULT 'UTC';
ALTER TABLE study ADD COLUMN practice INTEGER NOT NULL DEFAULT 0 CHECK (practice IN (0, 1));
UPDATE study SET zone = study_zone();

CREATE TABLE client_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, code TEXT NOT NULL UNIQUE CHECK (code <> ''), name TEXT NOT NULL DEFAULT '',
  sex TEXT NOT NULL DEFAULT '' CHECK (sex IN ('', 'male', 'female')), birth TEXT NOT NULL DEFAULT '',
  cautions TEXT NOT NULL DEFAULT '', usual_activity TEXT NOT NULL DEFAULT '',
  scans_before INTEGER CHECK (scans_before IS NULL OR scans_before >= 0), last_scan TEXT NOT NULL DEFAULT '',
  notes TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO client_new SELECT id, code, name, sex, birth, cautions, usual_activity, scans_before, last_scan, notes FROM client;
DROP TABLE client;
ALTER TABLE client_new RENAME TO client;

CREATE TABLE client_height_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, client INTEGER NOT NULL REFERENCES client, day TEXT NOT NULL,
  height_cm REAL NOT NULL CHECK (height_cm BETWEEN 40 AND 260), entered TEXT NOT NULL, unit TEXT NOT NULL,
  UNIQUE (client, day)
) STRICT;
INSERT INTO client_height_new SELECT id, client, day, height_cm, entered, unit FROM client_height;
DROP TABLE client_height;
ALTER TABLE client_height_new RENAME TO client_height;

CREATE TABLE instrument_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE CHECK (name <> ''),
  kind TEXT NOT NULL CHECK (kind IN ('reference', 'device', 'method')), equation TEXT NOT NULL DEFAULT '',
  electrodes TEXT NOT NULL DEFAULT '', price TEXT NOT NULL DEFAULT '', exports_data INTEGER, notes TEXT NOT NULL DEFAULT '',
  position INTEGER NOT NULL DEFAULT 0, repeats INTEGER NOT NULL DEFAULT 3 CHECK (repeats BETWEEN 1 AND 5)
) STRICT;
INSERT INTO instrument_new SELECT id, name, kind, equation, electrodes, price, exports_data, notes, position, repeats FROM instrument;
DROP TABLE instrument;
ALTER TABLE instrument_new RENAME TO instrument;

CREATE TEMP TABLE same_setting AS SELECT id,
  min(id) OVER (PARTITION BY instrument, ifnull(client, 0), label, canonical(starts)) AS kept FROM main.setting;
CREATE TABLE setting_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, instrument INTEGER NOT NULL REFERENCES instrument, client INTEGER REFERENCES client,
  label TEXT NOT NULL CHECK (label <> ''), starts TEXT NOT NULL
) STRICT;
INSERT INTO setting_new SELECT s.id, s.instrument, s.client, s.label, canonical(s.starts)
  FROM setting s JOIN temp.same_setting t ON t.id = s.id WHERE t.kept = s.id;
DROP TABLE setting;
ALTER TABLE setting_new RENAME TO setting;
CREATE UNIQUE INDEX setting_key ON setting (instrument, ifnull(client, 0), label, starts);

CREATE TABLE visit_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, client INTEGER NOT NULL REFERENCES client, start TEXT NOT NULL,
  age_years REAL CHECK (age_years IS NULL OR age_years BETWEEN 0 AND 130),
  height_cm REAL CHECK (height_cm IS NULL OR height_cm BETWEEN 40 AND 260),
  assessor TEXT NOT NULL DEFAULT '', notes TEXT NOT NULL DEFAULT '',
  instant INTEGER NOT NULL, timed INTEGER NOT NULL CHECK (timed IN (0, 1))
) STRICT;
INSERT INTO visit_new SELECT id, client, canonical(start), age_years, height_cm, assessor, notes, instant_of(start), timed_of(start)
  FROM visit;
DROP TABLE visit;
ALTER TABLE visit_new RENAME TO visit;
CREATE INDEX visit_client ON visit (client, instant);
CREATE TABLE visit_change (
  id INTEGER PRIMARY KEY AUTOINCREMENT, visit INTEGER NOT NULL REFERENCES visit, at TEXT NOT NULL, who TEXT NOT NULL,
  old TEXT NOT NULL, new TEXT NOT NULL, why TEXT NOT NULL
) STRICT;

CREATE TABLE reading_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, visit INTEGER NOT NULL REFERENCES visit, taken_at TEXT NOT NULL,
  instrument INTEGER NOT NULL REFERENCES instrument, setting INTEGER REFERENCES setting,
  metric TEXT NOT NULL REFERENCES metric, value REAL, entered TEXT NOT NULL, unit TEXT NOT NULL,
  replicate INTEGER NOT NULL CHECK (replicate >= 1),
  status TEXT NOT NULL CHECK (status IN ('ok', 'failed', 'excluded')), note TEXT NOT NULL DEFAULT '',
  source TEXT NOT NULL DEFAULT '', instant INTEGER NOT NULL, timed INTEGER NOT NULL CHECK (timed IN (0, 1)),
  simulated INTEGER NOT NULL DEFAULT 0 CHECK (simulated IN (0, 1)),
  CHECK ((status = 'failed') = (value IS NULL)), CHECK (status <> 'excluded' OR note <> '')
) STRICT;
INSERT INTO reading_new SELECT r.id, r.visit, canonical(r.taken_at), r.instrument, ifnull(t.kept, r.setting), r.metric, r.value,
  r.entered, r.unit, r.replicate, r.status, r.note, r.source, instant_of(r.taken_at), timed_of(r.taken_at), 0
  FROM reading r LEFT JOIN temp.same_setting t ON t.id = r.setting ORDER BY r.id;
-- the same instant written in two ways: a later row of equal value is the first one read twice and is excluded; one of
-- another value stays, as a further repeat
CREATE TEMP TABLE twice AS SELECT id, first, visit, instant, timed, instrument, setting, metric FROM (
  SELECT id, visit, instant, timed, instrument, ifnull(setting, 0) AS setting, metric,
    first_value(id) OVER w AS first, row_number() OVER w AS nth FROM main.reading_new
    WINDOW w AS (PARTITION BY visit, instant, timed, instrument, ifnull(setting, 0), metric, replicate ORDER BY id)
) WHERE nth > 1;
CREATE TEMP TABLE renumbered AS SELECT t.id, t.first, row_number() OVER
    (PARTITION BY t.visit, t.instant, t.timed, t.instrument, t.setting, t.metric ORDER BY t.id)
  + (SELECT max(replicate) FROM main.reading_new r WHERE r.visit = t.visit AND r.instant = t.instant AND r.timed = t.timed
     AND r.instrument = t.instrument AND ifnull(r.setting, 0) = t.setting AND r.metric = t.metric) AS replicate,
  (SELECT a.value IS b.value FROM main.reading_new a, main.reading_new b WHERE a.id = t.id AND b.id = t.first) AS same
  FROM temp.twice t;
UPDATE main.reading_new SET replicate = (SELECT n.replicate FROM temp.renumbered n WHERE n.id = reading_new.id)
  WHERE id IN (SELECT id FROM temp.renumbered);
CREATE TEMP TABLE put_aside AS SELECT r.id, r.value, r.entered, r.unit, r.status, r.note FROM main.reading_new r
  WHERE r.status = 'ok' AND r.id IN (SELECT id FROM temp.renumbered WHERE same = 1);
UPDATE main.reading_new SET status = 'excluded', note = 'the same reading, its time written in another way'
  WHERE id IN (SELECT id FROM temp.put_aside);
DROP TABLE reading;
ALTER TABLE reading_new RENAME TO reading;
CREATE UNIQUE INDEX reading_key ON reading (visit, instant, timed, instrument, ifnull(setting, 0), metric, replicate);
CREATE INDEX reading_metric ON reading (metric, instrument);
CREATE TRIGGER reading_range BEFORE INSERT ON reading WHEN NEW.value IS NOT NULL AND NOT EXISTS
  (SELECT 1 FROM metric WHERE id = NEW.metric AND NEW.value BETWEEN low AND high)
  BEGIN SELECT RAISE(ABORT, 'value outside the possible range'); END;
CREATE TRIGGER reading_range_change BEFORE UPDATE OF value, metric ON reading WHEN NEW.value IS NOT NULL AND NOT EXISTS
  (SELECT 1 FROM metric WHERE id = NEW.metric AND NEW.value BETWEEN low AND high)
  BEGIN SELECT RAISE(ABORT, 'value outside the possible range'); END;

CREATE TABLE reading_change_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, reading INTEGER NOT NULL REFERENCES reading, at TEXT NOT NULL, who TEXT NOT NULL,
  old TEXT NOT NULL, new TEXT NOT NULL, why TEXT NOT NULL
) STRICT;
INSERT INTO reading_change_new SELECT id, reading, at, who, old, new, why FROM reading_change
  WHERE reading IN (SELECT id FROM reading);
INSERT INTO reading_change_new (reading, at, who, old, new, why) SELECT p.id, strftime('%Y-%m-%dT%H:%M:%SZ'), '',
  json_object('value', p.value, 'entered', p.entered, 'unit', p.unit, 'status', p.status, 'note', p.note),
  json_object('value', p.value, 'entered', p.entered, 'unit', p.unit, 'status', r.status, 'note', r.note), r.note
  FROM temp.put_aside p JOIN reading r ON r.id = p.id;
DROP TABLE reading_change;
ALTER TABLE reading_change_new RENAME TO reading_change;
CREATE INDEX reading_change_reading ON reading_change (reading);
DROP TABLE temp.same_setting;
DROP TABLE temp.twice;
DROP TABLE temp.renumbered;
DROP TABLE temp.put_aside;

CREATE TABLE calibration_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, instrument INTEGER NOT NULL, metric TEXT NOT NULL REFERENCES metric,
  setting TEXT NOT NULL DEFAULT '', reference TEXT NOT NULL, model TEXT NOT NULL, parameters TEXT NOT NULL,
  range_low REAL NOT NULL, range_high REAL NOT NULL, pairs INTEGER NOT NULL, clients INTEGER NOT NULL,
  fitted_at TEXT NOT NULL, valid_until TEXT NOT NULL, version INTEGER NOT NULL, digest TEXT NOT NULL,
  UNIQUE (instrument, metric, setting, version)
) STRICT;
INSERT INTO calibration_new SELECT id, instrument, metric, setting, reference, model, parameters, range_low, range_high, pairs,
  clients, fitted_at, valid_until, version, digest FROM calibration;
CREATE TABLE calibration_mark_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, calibration INTEGER NOT NULL REFERENCES calibration, at TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('withdrawn', 'reinstated'))
) STRICT;
INSERT INTO calibration_mark_new SELECT id, calibration, at, kind FROM calibration_mark;
DROP TABLE calibration_mark;
DROP TABLE calibration;
ALTER TABLE calibration_new RENAME TO calibration;
ALTER TABLE calibration_mark_new RENAME TO calibration_mark;
CREATE TRIGGER calibration_fixed BEFORE UPDATE ON calibration
  BEGIN SELECT RAISE(ABORT, 'an adopted calibration is never edited'); END;
CREATE TRIGGER calibration_kept BEFORE DELETE ON calibration
  BEGIN SELECT RAISE(ABORT, 'an adopted calibration is never deleted'); END;

CREATE TABLE check_weight_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, instrument INTEGER NOT NULL REFERENCES instrument, taken_at TEXT NOT NULL,
  nominal_kg REAL NOT NULL CHECK (nominal_kg > 0), shown_kg REAL NOT NULL CHECK (shown_kg >= 0),
  entered TEXT NOT NULL, unit TEXT NOT NULL, note TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO check_weight_new SELECT id, instrument, taken_at, nominal_kg, shown_kg, entered, unit, note FROM check_weight;
DROP TABLE check_weight;
ALTER TABLE check_weight_new RENAME TO check_weight;

CREATE TABLE assessor_value_new (
  id INTEGER PRIMARY KEY AUTOINCREMENT, assessor TEXT NOT NULL CHECK (assessor <> ''), day TEXT NOT NULL,
  metric TEXT NOT NULL REFERENCES metric, person TEXT NOT NULL CHECK (person <> ''), repeat INTEGER NOT NULL CHECK (repeat >= 1),
  value REAL NOT NULL, entered TEXT NOT NULL, unit TEXT NOT NULL, UNIQUE (assessor, day, metric, person, repeat)
) STRICT;
INSERT INTO assessor_value_new SELECT id, assessor, day, metric, person, repeat, value, entered, unit FROM assessor_value;
DROP TABLE assessor_value;
ALTER TABLE assessor_value_new RENAME TO assessor_value;
