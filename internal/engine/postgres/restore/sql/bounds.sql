-- What is in the way of putting rows of tables back with the rights of their owner. Keys
-- whose texts are the same only where they are equal are those of the types listed.
SELECT t.i::int,
  coalesce((SELECT array_agg(quote_ident(g.tgname) || CASE g.tgenabled WHEN 'A' THEN ' A' ELSE ' O' END ORDER BY g.tgname)
    FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal AND g.tgenabled IN ('O', 'A')), '{}'),
  EXISTS (SELECT FROM pg_rewrite r WHERE r.ev_class = c.oid AND r.ev_type IN ('2', '3', '4') AND r.ev_enabled
    IN ('O', 'A')),
  coalesce((SELECT array_agg(DISTINCT p.i::int) FROM pg_constraint k JOIN unnest($1::oid[]) WITH ORDINALITY AS p (id, i)
    ON p.id = k.confrelid WHERE k.contype = 'f' AND k.conrelid = c.oid AND k.confrelid <> c.oid), '{}'),
  EXISTS (SELECT FROM pg_constraint k WHERE k.contype = 'f' AND k.confrelid = c.oid),
  NOT EXISTS (SELECT FROM pg_constraint k WHERE k.contype = 'f' AND k.confrelid = c.oid
    AND NOT (k.confdeltype IN ('a', 'r') AND k.confupdtype IN ('a', 'r'))
    AND NOT EXISTS (SELECT FROM pg_index x WHERE x.indrelid = c.oid AND x.indisprimary AND x.indimmediate
      AND x.indkey::int2[] @> k.confkey AND x.indkey::int2[] <@ k.confkey
      AND NOT EXISTS (SELECT FROM pg_attribute a LEFT JOIN pg_type y ON y.oid = a.atttypid
        LEFT JOIN pg_collation o ON o.oid = a.attcollation WHERE a.attrelid = c.oid AND a.attnum = ANY (x.indkey)
        AND (NOT coalesce(o.collisdeterministic, true) OR NOT (y.typtype = 'e' OR a.atttypid IN (16, 18, 19, 20, 21, 23,
          25, 26, 1042, 1043, 1082, 1083, 1114, 1184, 2950)))))),
  EXISTS (SELECT FROM pg_index x WHERE x.indrelid = c.oid AND x.indisprimary AND x.indimmediate)
  FROM unnest($1::oid[]) WITH ORDINALITY AS t (id, i) JOIN pg_class c ON c.oid = t.id
