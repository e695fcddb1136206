SELECT format('%I.%I', n.nspname, c.relname), coalesce(pg_relation_filenode(c.oid), 0)::bigint,
  c.relpersistence = 'p' AND NOT (SELECT q.seqcycle FROM pg_sequence q WHERE q.seqrelid = c.oid),
  coalesce((SELECT format('%I.%I', tn.nspname, t.relname)
    FROM pg_depend d JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace
      WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.refclassid = 'pg_class'::regclass
      AND d.deptype IN ('a', 'i') LIMIT 1), '')
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND c.relpersistence
      <> 't' AND c.oid >= 16384 ORDER BY 1
