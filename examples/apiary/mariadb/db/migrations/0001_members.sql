-- Members of the co-operative. A member may have been brought in by another.
CREATE TABLE member (
  id         int AUTO_INCREMENT PRIMARY KEY,
  name       varchar(100) NOT NULL,
  email      varchar(200) NOT NULL COLLATE utf8mb4_general_ci,
  sponsor_id int,
  joined_on  date NOT NULL DEFAULT (current_date),
  UNIQUE KEY member_email (email),
  CONSTRAINT member_sponsor FOREIGN KEY (sponsor_id) REFERENCES member (id) ON DELETE SET NULL
) DEFAULT CHARSET = utf8mb4;
