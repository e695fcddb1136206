CREATE TABLE harvest (honey text PRIMARY KEY, jars int NOT NULL CHECK (jars >= 0));
INSERT INTO harvest VALUES ('linden', 40), ('heather', 12);
