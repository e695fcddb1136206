CREATE TYPE hive_state AS ENUM ('thriving', 'weak', 'swarmed', 'lost');

CREATE TABLE hive_type (
  code   text PRIMARY KEY,
  title  text NOT NULL,
  frames int NOT NULL CHECK (frames > 0)
);

CREATE TABLE hive (
  id         int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  apiary_id  int NOT NULL REFERENCES apiary ON DELETE CASCADE,
  type_code  text NOT NULL REFERENCES hive_type,
  label      text NOT NULL,
  split_from int REFERENCES hive,
  state      hive_state NOT NULL DEFAULT 'thriving',
  tag        text GENERATED ALWAYS AS (upper(type_code) || '-' || label) STORED,
  UNIQUE (apiary_id, label)
);
CREATE INDEX hive_troubled ON hive (state) WHERE state <> 'thriving';
