SELECT c.relname::text, c.oid, array_agg(quote_ident(a.attname) || CASE WHEN a.atttypid = 'regproc'::regtype
  THEN '::oid' ELSE '' END ORDER BY a.attnum) FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid
  AND a.attnum > 0 AND NOT a.attisdropped
    WHERE c.relnamespace = 'pg_catalog'::regnamespace AND c.relkind = 'r' AND NOT c.relisshared
      AND c.oid < 16384 AND c.relname NOT IN ('pg_statistic', 'pg_statistic_ext_data', 'pg_largeobject')
    AND has_table_privilege(c.oid, 'SELECT') GROUP BY c.relname, c.oid ORDER BY c.relname <> 'pg_class', c.relname
