CREATE TABLE journal (
  id   INTEGER PRIMARY KEY AUTOINCREMENT,
  at   TEXT NOT NULL DEFAULT (datetime('now')),
  what TEXT NOT NULL
);
CREATE TRIGGER hive_state_noted AFTER UPDATE OF state ON hive WHEN old.state <> new.state BEGIN
  INSERT INTO journal (what) VALUES (new.tag || CASE new.state
    WHEN 'lost' THEN ' was lost'
    WHEN 'swarmed' THEN ' has swarmed'
    ELSE ' is ' || new.state END);
END;
CREATE TRIGGER hive_gone BEFORE DELETE ON hive BEGIN
  INSERT INTO journal (what) VALUES (old.tag || ' was taken away');
END;
