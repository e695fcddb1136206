CREATE TABLE inspection (
  id       int AUTO_INCREMENT PRIMARY KEY,
  hive_id  int NOT NULL,
  seen_on  date NOT NULL,
  findings json NOT NULL,
  brood    int AS (json_value(findings, '$.brood_frames')) VIRTUAL,
  KEY inspection_hive (hive_id, seen_on),
  CONSTRAINT inspection_of FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE CASCADE
) DEFAULT CHARSET = utf8mb4;
