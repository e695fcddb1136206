CREATE TABLE inspection (
  id       int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  hive_id  int NOT NULL REFERENCES hive ON DELETE CASCADE,
  seen_on  date NOT NULL,
  findings jsonb NOT NULL,
  brood    int GENERATED ALWAYS AS ((findings ->> 'brood_frames')::int) STORED
);
CREATE INDEX inspection_hive ON inspection (hive_id, seen_on);
CREATE INDEX inspection_findings ON inspection USING gin (findings);
