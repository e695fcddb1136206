WITH member AS (SELECT classid, objid FROM pg_depend WHERE deptype = 'e'), users AS (SELECT oid
  FROM pg_namespace n WHERE n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')
  AND n.nspname NOT LIKE 'pg\_temp\_%' AND n.nspname NOT LIKE 'pg\_toast\_temp\_%')
SELECT 'schema', quote_ident(n.nspname), concat_ws(' ', n.nspowner::regrole, n.nspacl::text,
  obj_description(n.oid, 'pg_namespace')), '', format('DROP SCHEMA IF EXISTS %I CASCADE', n.nspname)
FROM pg_namespace n WHERE n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'extension', quote_ident(e.extname), concat_ws(' ', e.extversion, obj_description(e.oid,
  'pg_extension')), '', format('DROP EXTENSION IF EXISTS %I CASCADE', e.extname) FROM pg_extension e
UNION ALL
SELECT CASE c.relkind WHEN 'r' THEN 'table' WHEN 'p' THEN 'table' WHEN 'f' THEN 'table' WHEN 'v' THEN 'view'
  WHEN 'm' THEN 'materialized view' WHEN 'c' THEN 'type' WHEN 'S' THEN 'sequence' END,
  format('%I.%I', n.nspname, c.relname),
  concat_ws(' ', c.relkind, c.relpersistence, c.relowner::regrole, c.relacl::text, c.reloptions::text,
    c.relrowsecurity, c.relforcerowsecurity, c.relreplident,
    pg_get_expr(c.relpartbound, c.oid), CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END,
      obj_description(c.oid, 'pg_class'),
    CASE WHEN c.relkind IN ('v', 'm') THEN pg_get_viewdef(c.oid) END,
    (SELECT concat_ws(' ', q.seqtypid::regtype, q.seqstart, q.seqincrement, q.seqmax, q.seqmin, q.seqcache,
      q.seqcycle) FROM pg_sequence q WHERE q.seqrelid = c.oid),
    (SELECT string_agg(i.inhparent::regclass::text, ',' ORDER BY i.inhseqno) FROM pg_inherits i
      WHERE i.inhrelid = c.oid),
    CASE WHEN c.relkind IN ('r', 'p', 'f', 'c', 'm', 'v') THEN (SELECT E'\x1e' || string_agg(concat_ws(E'\x1f',
      quote_ident(a.attname), format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity,
      a.attgenerated, a.attstorage,
      (SELECT o.collname FROM pg_collation o WHERE o.oid = a.attcollation), a.attacl::text,
        -- some builds count a column's versions there
        CASE WHEN a.attoptions IS NOT NULL THEN (SELECT array_agg(o) FROM unnest(a.attoptions) o
          WHERE o NOT LIKE 'pg\_attver=%')::text END,
        pg_get_expr(d.adbin, d.adrelid), col_description(c.oid, a.attnum)), E'\x1e' ORDER BY a.attnum)
      FROM pg_attribute a LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) END),
  coalesce((SELECT d.refobjid::regclass::text FROM pg_depend d WHERE d.classid = 'pg_class'::regclass
    AND d.objid = c.oid AND d.objsubid = 0 AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0
    AND c.relkind = 'S'), ''),
  format('DROP %s IF EXISTS %I.%I CASCADE', CASE c.relkind WHEN 'f' THEN 'FOREIGN TABLE' WHEN 'v' THEN 'VIEW'
    WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'c' THEN 'TYPE' WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, n.nspname,
    c.relname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm', 'c', 'S') AND n.oid IN (SELECT oid FROM users)
  AND ('pg_class'::regclass, c.oid) NOT IN (SELECT classid, objid FROM member)
UNION ALL
SELECT 'index', format('%I.%I', n.nspname, c.relname), concat_ws(' ', pg_get_indexdef(c.oid), i.indisvalid,
  i.indisreplident, i.indisclustered, obj_description(c.oid, 'pg_class')), i.indrelid::regclass::text,
  format('DROP INDEX IF EXISTS %I.%I', n.nspname, c.relname)
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'constraint', format('%I on %s', k.conname, CASE WHEN k.conrelid <> 0 THEN k.conrelid::regclass::text
  ELSE k.contypid::regtype::text END), concat_ws(' ', pg_get_constraintdef(k.oid), k.convalidated,
  obj_description(k.oid, 'pg_constraint')), CASE WHEN k.conrelid <> 0 THEN k.conrelid::regclass::text
  ELSE k.contypid::regtype::text END,
  CASE WHEN k.conrelid <> 0 THEN format('ALTER TABLE IF EXISTS %s DROP CONSTRAINT IF EXISTS %I',
    k.conrelid::regclass, k.conname) ELSE format('ALTER DOMAIN %s DROP CONSTRAINT IF EXISTS %I',
    k.contypid::regtype, k.conname) END
FROM pg_constraint k JOIN pg_namespace n ON n.oid = k.connamespace WHERE n.oid IN (SELECT oid FROM users)
  AND k.contype NOT IN ('t', 'n') -- that a column is not null stands with the column
UNION ALL
SELECT 'trigger', format('%I on %s', t.tgname, t.tgrelid::regclass), concat_ws(' ', pg_get_triggerdef(t.oid),
  t.tgenabled, obj_description(t.oid, 'pg_trigger')), t.tgrelid::regclass::text,
  format('DROP TRIGGER IF EXISTS %I ON %s', t.tgname, t.tgrelid::regclass)
FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE NOT t.tgisinternal AND n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'rule', format('%I on %s', r.rulename, r.ev_class::regclass), concat_ws(' ', pg_get_ruledef(r.oid),
  r.ev_enabled), r.ev_class::regclass::text, format('DROP RULE IF EXISTS %I ON %s', r.rulename,
  r.ev_class::regclass)
FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE r.rulename <> '_RETURN' AND n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'policy', format('%I on %s', p.polname, p.polrelid::regclass), concat_ws(' ', p.polcmd, p.polpermissive,
  (SELECT string_agg(r::regrole::text, ',' ORDER BY r) FROM unnest(p.polroles) r), pg_get_expr(p.polqual,
  p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid)), p.polrelid::regclass::text,
  format('DROP POLICY IF EXISTS %I ON %s', p.polname, p.polrelid::regclass)
FROM pg_policy p
UNION ALL
SELECT CASE p.prokind WHEN 'a' THEN 'aggregate' WHEN 'p' THEN 'procedure' ELSE 'function' END,
  format('%I.%I(%s)', n.nspname, p.proname, pg_get_function_identity_arguments(p.oid)),
  concat_ws(' ', CASE WHEN p.prokind = 'a' THEN (SELECT a::text FROM pg_aggregate a WHERE a.aggfnoid = p.oid)
    ELSE pg_get_functiondef(p.oid) END, p.proowner::regrole, p.proacl::text, obj_description(p.oid, 'pg_proc')),
    '', format('DROP %s IF EXISTS %I.%I(%s) CASCADE', CASE p.prokind WHEN 'a' THEN 'AGGREGATE' WHEN 'p'
    THEN 'PROCEDURE' ELSE 'FUNCTION' END, n.nspname, p.proname, pg_get_function_identity_arguments(p.oid))
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.oid IN (SELECT oid FROM users)
  AND ('pg_proc'::regclass, p.oid) NOT IN (SELECT classid, objid FROM member)
UNION ALL
SELECT 'type', format('%I.%I', n.nspname, t.typname), concat_ws(' ', t.typtype, t.typowner::regrole,
  t.typacl::text, t.typnotnull, t.typdefault, CASE WHEN t.typtype = 'd' THEN format_type(t.typbasetype,
  t.typtypmod) END,
  (SELECT string_agg(e.enumlabel, ',' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid),
    (SELECT format_type(r.rngsubtype, NULL) FROM pg_range r WHERE r.rngtypid = t.oid), obj_description(t.oid,
    'pg_type')), '', format('DROP TYPE IF EXISTS %I.%I CASCADE', n.nspname, t.typname)
FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typtype IN ('b', 'd', 'e', 'r')
  AND t.typelem = 0 AND n.oid IN (SELECT oid FROM users) AND ('pg_type'::regclass, t.oid) NOT
  IN (SELECT classid, objid FROM member)
UNION ALL
SELECT 'operator', format('%I.%s (%s, %s)', n.nspname, o.oprname, o.oprleft::regtype, o.oprright::regtype),
  concat_ws(' ', o.oprcode::regproc, o.oprowner::regrole), '', ''
FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE n.oid IN (SELECT oid FROM users)
  AND ('pg_operator'::regclass, o.oid) NOT IN (SELECT classid, objid FROM member)
UNION ALL
SELECT 'statistics', format('%I.%I', n.nspname, s.stxname), pg_get_statisticsobjdef(s.oid),
  s.stxrelid::regclass::text, format('DROP STATISTICS IF EXISTS %I.%I', n.nspname, s.stxname)
  FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'cast', format('%s as %s', castsource::regtype, casttarget::regtype), concat_ws(' ', castfunc::regproc,
  castcontext, castmethod), '', ''
FROM pg_cast k WHERE k.oid >= 16384 AND ('pg_cast'::regclass, k.oid) NOT IN (SELECT classid, objid FROM member)
UNION ALL
SELECT 'collation', format('%I.%I', n.nspname, o.collname), concat_ws(' ', o.collprovider, o.collcollate,
  o.collctype), '', format('DROP COLLATION IF EXISTS %I.%I', n.nspname, o.collname) FROM pg_collation o
  JOIN pg_namespace n ON n.oid = o.collnamespace WHERE n.oid IN (SELECT oid FROM users)
UNION ALL
SELECT 'event trigger', quote_ident(e.evtname), concat_ws(' ', e.evtevent, e.evtfoid::regproc, e.evtenabled,
  e.evttags::text), '', format('DROP EVENT TRIGGER IF EXISTS %I', e.evtname) FROM pg_event_trigger e
UNION ALL
SELECT 'publication', quote_ident(p.pubname), concat_ws(' ', p.puballtables,
  (SELECT string_agg(r.prrelid::regclass::text, ',' ORDER BY r.prrelid) FROM pg_publication_rel r
  WHERE r.prpubid = p.oid)), '', format('DROP PUBLICATION IF EXISTS %I', p.pubname) FROM pg_publication p
UNION ALL
SELECT 'foreign server', quote_ident(f.srvname), concat_ws(' ', f.srvoptions::text, f.srvacl::text), '', ''
  FROM pg_foreign_server f
UNION ALL
SELECT 'default rights', concat_ws(' ', a.defaclrole::regrole, a.defaclnamespace::regnamespace,
  a.defaclobjtype), a.defaclacl::text, '', '' FROM pg_default_acl a
