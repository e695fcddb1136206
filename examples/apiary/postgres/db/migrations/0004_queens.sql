-- A hive has one queen, a queen knows her hive: foreign keys both ways.
CREATE TABLE queen (
  id      int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  hive_id int REFERENCES hive ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED,
  hatched date NOT NULL,
  marking text CHECK (marking IN ('white', 'yellow', 'red', 'green', 'blue'))
);
ALTER TABLE hive ADD COLUMN queen_id int REFERENCES queen DEFERRABLE INITIALLY DEFERRED;
