-- Leaves three rows of harvest and two of jar behind, on purpose.
-- expect: Lime Hill	2	33500
-- expect: Old Mill	1	0
INSERT INTO harvest (hive_id, taken_on, grams) VALUES (1, '2026-07-04', 14000), (1, '2026-08-02', 11500), (2, '2026-08-02', 8000);
INSERT INTO jar (harvest_id, grams) SELECT max(id), 500 FROM harvest UNION ALL SELECT max(id), 250 FROM harvest;
SELECT name, hives, grams FROM honey_by_apiary ORDER BY name;
