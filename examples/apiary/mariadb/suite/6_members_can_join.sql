-- Leaves a member behind and alters another, on purpose.
-- expect: 4	Pia Lund
INSERT INTO member (name, email, sponsor_id) VALUES ('Pia Lund', 'pia@example.org', 2);
UPDATE dues SET paid_on = '2026-03-01' WHERE member_id = 2;
SELECT id, name FROM member WHERE email = 'PIA@example.org';
