-- expect: 1
BEGIN;
DELETE FROM harvest;
DELETE FROM apiary WHERE name = 'Lime Hill';
SELECT count(*) FROM hive;
ROLLBACK;
