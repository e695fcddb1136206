CREATE TABLE journal (
  id   bigint AUTO_INCREMENT PRIMARY KEY,
  at   timestamp NOT NULL DEFAULT current_timestamp,
  what varchar(200) NOT NULL
) DEFAULT CHARSET = utf8mb4;

DELIMITER //
CREATE TRIGGER hive_state_noted AFTER UPDATE ON hive FOR EACH ROW
BEGIN
  IF OLD.state <> NEW.state THEN
    INSERT INTO journal (what) VALUES (concat(NEW.tag, CASE NEW.state
      WHEN 'lost' THEN ' was lost'
      WHEN 'swarmed' THEN ' has swarmed'
      ELSE concat(' is ', NEW.state) END));
  END IF;
END//
CREATE TRIGGER hive_gone BEFORE DELETE ON hive FOR EACH ROW
  INSERT INTO journal (what) VALUES (concat(OLD.tag, ' was taken away'))//
DELIMITER ;
