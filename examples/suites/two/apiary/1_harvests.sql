CREATE TABLE harvest (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, hive text NOT NULL, jars int NOT NULL CHECK (jars >= 0));
INSERT INTO harvest (hive, jars) VALUES ('linden', 40), ('heather', 12);
