-- A hive has one queen, a queen knows her hive: foreign keys both ways.
CREATE TABLE queen (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  hive_id   INTEGER REFERENCES hive(id) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED,
  hatched   TEXT NOT NULL,
  marking   TEXT CHECK (marking IN ('white', 'yellow', 'red', 'green', 'blue'))
);
ALTER TABLE hive ADD COLUMN queen_id INTEGER REFERENCES queen(id) DEFERRABLE INITIALLY DEFERRED;
