-- What the scales under the hives say, a partition for each quarter.
CREATE TABLE scale_reading (
  hive_id int NOT NULL REFERENCES hive,
  at      timestamptz NOT NULL,
  grams   int NOT NULL,
  PRIMARY KEY (hive_id, at)
) PARTITION BY RANGE (at);
CREATE TABLE scale_reading_2026q2 PARTITION OF scale_reading FOR VALUES FROM ('2026-04-01 00:00Z') TO ('2026-07-01 00:00Z');
CREATE TABLE scale_reading_2026q3 PARTITION OF scale_reading FOR VALUES FROM ('2026-07-01 00:00Z') TO ('2026-10-01 00:00Z');
