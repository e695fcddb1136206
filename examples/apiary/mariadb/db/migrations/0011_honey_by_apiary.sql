CREATE VIEW honey_by_apiary AS
  SELECT apiary.name, count(DISTINCT hive.id) AS hives, coalesce(sum(harvest.grams), 0) AS grams
  FROM apiary LEFT JOIN hive ON hive.apiary_id = apiary.id LEFT JOIN harvest ON harvest.hive_id = hive.id
  GROUP BY apiary.id, apiary.name;
