-- One table a quarter, and a view over them: SQLite has no partitions.
CREATE TABLE scale_reading_2026q2 (hive_id INTEGER NOT NULL REFERENCES hive(id), at TEXT NOT NULL, grams INTEGER NOT NULL, PRIMARY KEY (hive_id, at)) WITHOUT ROWID;
CREATE TABLE scale_reading_2026q3 (hive_id INTEGER NOT NULL REFERENCES hive(id), at TEXT NOT NULL, grams INTEGER NOT NULL, PRIMARY KEY (hive_id, at)) WITHOUT ROWID;
CREATE VIEW scale_reading AS
  SELECT * FROM scale_reading_2026q2 UNION ALL SELECT * FROM scale_reading_2026q3;
CREATE TRIGGER scale_reading_routed INSTEAD OF INSERT ON scale_reading BEGIN
  INSERT INTO scale_reading_2026q2 SELECT new.hive_id, new.at, new.grams WHERE new.at < '2026-07-01';
  INSERT INTO scale_reading_2026q3 SELECT new.hive_id, new.at, new.grams WHERE new.at >= '2026-07-01';
END;
