CREATE TABLE journal (
  id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at   timestamptz NOT NULL DEFAULT now(),
  what text NOT NULL
);

CREATE FUNCTION note_hive() RETURNS trigger LANGUAGE plpgsql AS $note$
BEGIN
  IF TG_OP = 'DELETE' THEN
    INSERT INTO journal (what) VALUES (OLD.tag || ' was taken away');
    RETURN OLD;
  END IF;
  INSERT INTO journal (what) VALUES (NEW.tag || CASE NEW.state
    WHEN 'lost' THEN ' was lost'
    WHEN 'swarmed' THEN ' has swarmed'
    ELSE ' is ' || NEW.state END);
  RETURN NEW;
END
$note$;
CREATE TRIGGER hive_state_noted AFTER UPDATE OF state ON hive FOR EACH ROW WHEN (OLD.state <> NEW.state) EXECUTE FUNCTION note_hive();
CREATE TRIGGER hive_gone BEFORE DELETE ON hive FOR EACH ROW EXECUTE FUNCTION note_hive();
