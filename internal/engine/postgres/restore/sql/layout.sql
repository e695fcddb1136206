SELECT coalesce((SELECT array_agg(quote_ident(attname) ORDER BY attnum) FROM pg_attribute WHERE attrelid
  = t AND attnum > 0 AND NOT attisdropped AND attgenerated = ''), '{}'),
    coalesce((SELECT array_agg(quote_ident(a.attname) ORDER BY array_position(i.indkey, a.attnum))
      FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey)
      WHERE i.indrelid = t AND i.indisprimary), '{}'),
    coalesce((SELECT array_agg(quote_ident(attname)) FROM pg_attribute WHERE attrelid = t AND attidentity = 'a'), '{}'),
    NOT EXISTS (SELECT 1 FROM pg_attribute a JOIN pg_type y ON y.oid = a.atttypid LEFT JOIN pg_type e
      ON e.oid = y.typelem WHERE a.attrelid = t AND a.attnum > 0 AND (0 IN (y.typsend, y.typreceive,
      e.typsend, e.typreceive))),
    pg_table_size(t)
    FROM CAST($1::text AS regclass) t
