-- The members and hives that the co-operative began with.
INSERT INTO member (name, email, sponsor_id, joined_on) VALUES
  ('Ottilie Farrow', 'ottilie@example.org', NULL, '2019-03-02'),
  ('Bram Tessel',    'bram@example.org',    1,    '2019-03-02'),
  ('Ines Caldera',   'ines@example.org',    1,    '2021-05-17');
INSERT INTO apiary (name, keeper_id, latitude, longitude) VALUES
  ('Lime Hill', 1, 51.84, -1.35),
  ('Old Mill',  2, 51.79, -1.41);
INSERT INTO hive (apiary_id, type_code, label) VALUES (1, 'dadant', 'A1'), (1, 'dadant', 'A2'), (2, 'zander', 'B1');
INSERT INTO queen (hive_id, hatched, marking) VALUES (1, '2025-05-20', 'green'), (2, '2026-06-01', 'white'), (3, '2024-06-11', NULL);
UPDATE hive SET queen_id = id;
INSERT INTO dues (member_id, year, cents, paid_on) VALUES (1, 2026, 4500, '2026-01-10'), (2, 2026, 4500, NULL), (3, 2026, 2500, '2026-02-01');
