-- expect: 1
BEGIN;
PRAGMA defer_foreign_keys = ON;
UPDATE hive SET queen_id = NULL;
DELETE FROM treatment;
DELETE FROM apiary WHERE name = 'Lime Hill' AND NOT EXISTS (SELECT 1 FROM harvest);
DELETE FROM hive WHERE apiary_id = 1;
SELECT count(*) FROM hive;
ROLLBACK;
