CREATE TABLE apiary (
  id         int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  keeper_id  int NOT NULL REFERENCES member,
  latitude   double precision CHECK (latitude BETWEEN -90 AND 90),
  longitude  double precision CHECK (longitude BETWEEN -180 AND 180)
);
COMMENT ON COLUMN apiary.keeper_id IS 'the member who holds the keys';
