CREATE TABLE harvest (
  id       int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  hive_id  int NOT NULL REFERENCES hive,
  taken_on date NOT NULL,
  grams    int NOT NULL CHECK (grams > 0)
);

CREATE TABLE jar (
  id         int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  harvest_id int NOT NULL REFERENCES harvest ON DELETE CASCADE,
  grams      int NOT NULL,
  sold_to    int REFERENCES member
);
