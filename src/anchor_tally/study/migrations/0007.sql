-- The calendar: rules that make planned days, and single days that were moved or left out.
CREATE TABLE scheme (
  id INTEGER PRIMARY KEY AUTOINCREMENT, client INTEGER REFERENCES client, station TEXT NOT NULL CHECK (station <> ''),
  form TEXT NOT NULL CHECK (form IN ('every', 'back', 'last', 'weekdays', 'scan', 'days')), days TEXT NOT NULL CHECK (days <> ''),
  starts TEXT NOT NULL DEFAULT '', ends TEXT NOT NULL DEFAULT '', most INTEGER CHECK (most IS NULL OR most > 0),
  label TEXT NOT NULL DEFAULT '', spread INTEGER NOT NULL DEFAULT 0 CHECK (spread IN (0, 1)), reason TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE TABLE planned_day (
  scheme INTEGER NOT NULL REFERENCES scheme, client INTEGER NOT NULL REFERENCES client, due TEXT NOT NULL,
  day TEXT NOT NULL DEFAULT '', PRIMARY KEY (scheme, client, due)
) STRICT;
-- Whether the order of the devices is counterbalanced over visits.
ALTER TABLE study ADD COLUMN balanced INTEGER NOT NULL DEFAULT 0 CHECK (balanced IN (0, 1));
