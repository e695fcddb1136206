-- A hive has one queen, a queen knows her hive: foreign keys both ways.
CREATE TABLE queen (
  id      int AUTO_INCREMENT PRIMARY KEY,
  hive_id int,
  hatched date NOT NULL,
  marking enum('white', 'yellow', 'red', 'green', 'blue'),
  CONSTRAINT queen_hive FOREIGN KEY (hive_id) REFERENCES hive (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;
ALTER TABLE hive ADD COLUMN queen_id int, ADD CONSTRAINT hive_queen FOREIGN KEY (queen_id) REFERENCES queen (id);
