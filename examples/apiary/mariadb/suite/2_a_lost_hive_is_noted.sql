-- Leaves nothing but a counter moved: all in a transaction that is rolled back.
-- expect: ZANDER-B1 was lost
BEGIN;
UPDATE hive SET state = 'lost' WHERE label = 'B1';
SELECT what FROM journal;
ROLLBACK;
