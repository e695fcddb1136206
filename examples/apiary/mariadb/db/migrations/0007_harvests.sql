CREATE TABLE harvest (
  id       int AUTO_INCREMENT PRIMARY KEY,
  hive_id  int NOT NULL,
  taken_on date NOT NULL,
  grams    int NOT NULL CHECK (grams > 0),
  CONSTRAINT harvest_hive FOREIGN KEY (hive_id) REFERENCES hive (id)
) DEFAULT CHARSET = utf8mb4;

CREATE TABLE jar (
  id         int AUTO_INCREMENT PRIMARY KEY,
  harvest_id int NOT NULL,
  grams      int NOT NULL,
  sold_to    int,
  CONSTRAINT jar_harvest FOREIGN KEY (harvest_id) REFERENCES harvest (id) ON DELETE CASCADE,
  CONSTRAINT jar_member FOREIGN KEY (sold_to) REFERENCES member (id)
) DEFAULT CHARSET = utf8mb4;
