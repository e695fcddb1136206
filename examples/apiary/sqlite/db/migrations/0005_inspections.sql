CREATE TABLE inspection (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id  INTEGER NOT NULL REFERENCES hive(id) ON DELETE CASCADE,
  seen_on  TEXT NOT NULL,
  findings TEXT NOT NULL CHECK (json_valid(findings)),
  brood    INTEGER GENERATED ALWAYS AS (json_extract(findings, '$.brood_frames')) VIRTUAL
);
CREATE INDEX inspection_hive ON inspection(hive_id, seen_on);
