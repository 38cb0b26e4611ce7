CREATE TABLE hive (id INTEGER PRIMARY KEY, label VARCHAR(20) NOT NULL, frames INTEGER NOT NULL);
CREATE TABLE inspection (
  id INTEGER PRIMARY KEY,
  hive_id INTEGER NOT NULL REFERENCES hive (id),
  inspected_at TIMESTAMP NOT NULL,
  temper INTEGER NOT NULL,
  mites INTEGER NOT NULL
);
CREATE TABLE finding (
  inspection_id INTEGER NOT NULL REFERENCES inspection (id),
  number INTEGER NOT NULL,
  words VARCHAR(80) NOT NULL,
  PRIMARY KEY (inspection_id, number)
);
CREATE INDEX inspection_hive ON inspection (hive_id, inspected_at);
