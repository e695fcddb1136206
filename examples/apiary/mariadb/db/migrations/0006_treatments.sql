CREATE TABLE remedy (
  code      varchar(20) PRIMARY KEY,
  title     varchar(100) NOT NULL,
  wait_days int NOT NULL
) DEFAULT CHARSET = utf8mb4;

CREATE TABLE treatment (
  hive_id     int NOT NULL,
  remedy_code varchar(20) NOT NULL,
  given_on    date NOT NULL,
  PRIMARY KEY (hive_id, remedy_code, given_on),
  CONSTRAINT treatment_hive FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE,
  CONSTRAINT treatment_remedy FOREIGN KEY (remedy_code) REFERENCES remedy (code)
) DEFAULT CHARSET = utf8mb4;
