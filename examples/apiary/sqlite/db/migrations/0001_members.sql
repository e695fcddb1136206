-- Members of the co-operative. A member may have been brought in by another.
CREATE TABLE member (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL,
  email      TEXT NOT NULL UNIQUE COLLATE NOCASE,
  sponsor_id INTEGER REFERENCES member(id) ON DELETE SET NULL,
  joined_on  TEXT NOT NULL DEFAULT (date('now'))
);
