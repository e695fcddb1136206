SELECT format('%I.%I', n.nspname, c.relname), c.oid, c.relpersistence = 'u', c.relkind = 'm',
  coalesce(pg_relation_filenode(c.oid), 0)::bigint,
  pg_relation_size(c.oid) / current_setting('block_size')::bigint,
  c.oid IN (SELECT tgrelid FROM pg_trigger WHERE tgenabled IN ('A', 'R')) OR c.oid IN (SELECT ev_class
    FROM pg_rewrite WHERE ev_enabled IN ('A', 'R')),
  c.oid IN (SELECT confrelid FROM pg_constraint WHERE contype = 'f' AND conrelid <> confrelid),
  (SELECT array_agg(DISTINCT k.confrelid::regclass::text) FROM pg_constraint k WHERE k.contype = 'f'
    AND k.conrelid = c.oid AND k.confrelid <> c.oid)
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE (c.relkind IN ('r', 'm')
    AND c.relpersistence <> 't'
  AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')) OR c.oid = 'pg_largeobject'::regclass
    ORDER BY 1
