CREATE TABLE apiary (
  id         int AUTO_INCREMENT PRIMARY KEY,
  name       varchar(100) NOT NULL UNIQUE,
  keeper_id  int NOT NULL COMMENT 'the member who holds the keys',
  latitude   double CHECK (latitude BETWEEN -90 AND 90),
  longitude  double CHECK (longitude BETWEEN -180 AND 180),
  CONSTRAINT apiary_keeper FOREIGN KEY (keeper_id) REFERENCES member (id)
) DEFAULT CHARSET = utf8mb4;
