-- What the scales under the hives say, a partition for each quarter. A partitioned table
-- has no foreign keys here.
CREATE TABLE scale_reading (
  hive_id int NOT NULL,
  at      datetime NOT NULL,
  grams   int NOT NULL,
  PRIMARY KEY (hive_id, at)
) PARTITION BY RANGE COLUMNS (at) (
  PARTITION before_2026q2 VALUES LESS THAN ('2026-04-01'),
  PARTITION in_2026q2 VALUES LESS THAN ('2026-07-01'),
  PARTITION in_2026q3 VALUES LESS THAN ('2026-10-01')
);
