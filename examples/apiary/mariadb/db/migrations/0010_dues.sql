CREATE TABLE dues (
  member_id int NOT NULL,
  year      int NOT NULL,
  cents     int NOT NULL,
  paid_on   date,
  PRIMARY KEY (member_id, year),
  CONSTRAINT dues_member FOREIGN KEY (member_id) REFERENCES member (id) ON DELETE CASCADE
);
CREATE VIEW owing AS
  SELECT member.name, dues.year, dues.cents FROM dues JOIN member ON member.id = dues.member_id WHERE paid_on IS NULL;
