CREATE TABLE remedy (
  code      text PRIMARY KEY,
  title     text NOT NULL,
  wait_days int NOT NULL
);

CREATE TABLE treatment (
  hive_id     int NOT NULL REFERENCES hive ON DELETE CASCADE,
  remedy_code text NOT NULL REFERENCES remedy,
  given_on    date NOT NULL,
  PRIMARY KEY (hive_id, remedy_code, given_on)
);
