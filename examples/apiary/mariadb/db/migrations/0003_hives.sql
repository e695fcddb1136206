CREATE TABLE hive_type (
  code   varchar(20) PRIMARY KEY,
  title  varchar(100) NOT NULL,
  frames int NOT NULL CHECK (frames > 0)
) DEFAULT CHARSET = utf8mb4;

CREATE TABLE hive (
  id         int AUTO_INCREMENT PRIMARY KEY,
  apiary_id  int NOT NULL,
  type_code  varchar(20) NOT NULL,
  label      varchar(40) NOT NULL,
  split_from int,
  state      enum('thriving', 'weak', 'swarmed', 'lost') NOT NULL DEFAULT 'thriving',
  tag        varchar(70) AS (concat(upper(type_code), '-', label)) STORED,
  UNIQUE KEY hive_label (apiary_id, label),
  KEY hive_state (state),
  CONSTRAINT hive_apiary FOREIGN KEY (apiary_id) REFERENCES apiary (id) ON DELETE CASCADE,
  CONSTRAINT hive_type FOREIGN KEY (type_code) REFERENCES hive_type (code),
  CONSTRAINT hive_split FOREIGN KEY (split_from) REFERENCES hive (id)
) DEFAULT CHARSET = utf8mb4;
