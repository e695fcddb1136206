-- Members of the co-operative. A member may have been brought in by another.
CREATE TABLE member (
  id         int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL,
  email      text NOT NULL,
  sponsor_id int REFERENCES member ON DELETE SET NULL,
  joined_on  date NOT NULL DEFAULT current_date
);
CREATE UNIQUE INDEX member_email ON member (lower(email));
