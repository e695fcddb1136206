CREATE TABLE apiary (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL UNIQUE,
  keeper_id  INTEGER NOT NULL REFERENCES member(id),
  latitude   REAL,
  longitude  REAL,
  CHECK (latitude BETWEEN -90 AND 90),
  CHECK (longitude BETWEEN -180 AND 180)
);
