CREATE TABLE remedy (
  code      TEXT PRIMARY KEY,
  title     TEXT NOT NULL,
  wait_days INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE treatment (
  hive_id     INTEGER NOT NULL REFERENCES hive(id) ON DELETE CASCADE,
  remedy_code TEXT NOT NULL REFERENCES remedy(code),
  given_on    TEXT NOT NULL,
  PRIMARY KEY (hive_id, remedy_code, given_on)
);
