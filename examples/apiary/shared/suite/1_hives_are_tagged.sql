-- expect: DADANT-A1
SELECT tag FROM hive WHERE id = 1;
