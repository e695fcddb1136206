CREATE TABLE dues (
  member_id INTEGER NOT NULL REFERENCES member(id) ON DELETE CASCADE,
  year      INTEGER NOT NULL,
  cents     INTEGER NOT NULL,
  paid_on   TEXT,
  PRIMARY KEY (member_id, year)
);
CREATE VIEW owing AS
  SELECT member.name, dues.year, dues.cents FROM dues JOIN member ON member.id = dues.member_id WHERE paid_on IS NULL;
