DROP TABLE jar;
DROP TABLE harvest;
