-- expect: 1	1
BEGIN;
INSERT INTO scale_reading VALUES (1, '2026-06-30 23:00', 41200), (1, '2026-07-01 01:00', 41350);
SELECT (SELECT count(*) FROM scale_reading PARTITION (in_2026q2)), (SELECT count(*) FROM scale_reading PARTITION (in_2026q3));
ROLLBACK;
