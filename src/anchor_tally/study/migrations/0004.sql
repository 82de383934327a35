-- What the user states of a metric: the margin that matters, the SD of one scan, the spread of a device's offset between clients.
CREATE TABLE stated (
  metric TEXT NOT NULL REFERENCES metric, what TEXT NOT NULL CHECK (what IN ('margin', 'reference_sd', 'client_sd')),
  value REAL NOT NULL CHECK (value > 0), PRIMARY KEY (metric, what)
) STRICT;
