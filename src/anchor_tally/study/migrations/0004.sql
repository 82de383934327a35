-- What the user states of a metric: the margin that matters, the SD of one scan, the spread of a device's offset between clients.
CREATE TABLE stated (
  metric TEXT NOT NULL REFERENCES metric, what TEXT NOT NULL CHECK (what IN ('margin', 'reference_sd', 'client_sd')),
  value REAL NOT NULL CHECK (value > 0), PRIMARY KEY (metric, what)
) STRICT;
-- How the repeats of a device are walked at the bench, and whether earlier and corrected values are hidden while measuring.
ALTER TABLE instrument ADD COLUMN walk TEXT NOT NULL DEFAULT 'down' CHECK (walk IN ('down', 'across'));
ALTER TABLE study ADD COLUMN blind INTEGER NOT NULL DEFAULT 0 CHECK (blind IN (0, 1));
-- The order in which a display shows its values.
ALTER TABLE instrument_metric ADD COLUMN position INTEGER NOT NULL DEFAULT 0;
