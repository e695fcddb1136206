-- expect: 7
BEGIN;
INSERT INTO inspection (hive_id, seen_on, findings) VALUES (2, '2026-05-01', '{"brood_frames": 7, "queen": true}');
SELECT brood FROM inspection WHERE json_contains(findings, 'true', '$.queen');
ROLLBACK;
