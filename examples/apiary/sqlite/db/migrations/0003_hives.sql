CREATE TABLE hive_type (
  code   TEXT PRIMARY KEY,
  title  TEXT NOT NULL,
  frames INTEGER NOT NULL CHECK (frames > 0)
) WITHOUT ROWID;

CREATE TABLE hive (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  apiary_id  INTEGER NOT NULL REFERENCES apiary(id) ON DELETE CASCADE,
  type_code  TEXT NOT NULL REFERENCES hive_type(code),
  label      TEXT NOT NULL,
  split_from INTEGER REFERENCES hive(id),
  state      TEXT NOT NULL DEFAULT 'thriving' CHECK (state IN ('thriving', 'weak', 'swarmed', 'lost')),
  tag        TEXT GENERATED ALWAYS AS (upper(type_code) || '-' || label) STORED,
  UNIQUE (apiary_id, label)
);
CREATE INDEX hive_state ON hive(state) WHERE state <> 'thriving';
