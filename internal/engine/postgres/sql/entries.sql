SELECT d.datname, coalesce(f.facts, CASE WHEN o.rolcreatedb AND NOT o.rolsuper THEN c.description END, ''),
  d.datconnlimit
  FROM pg_database d JOIN pg_roles o ON o.oid = d.datdba
  LEFT JOIN pg_shdescription c ON c.objoid = d.oid AND c.classoid = 'pg_database'::regclass
  LEFT JOIN LATERAL (SELECT substr(item, strpos(item, '=') + 1) AS facts
    FROM pg_db_role_setting s JOIN pg_roles r ON r.oid = s.setrole CROSS JOIN unnest(s.setconfig) item
    WHERE s.setdatabase = d.oid AND (r.rolname = current_user AND %t OR r.rolsuper OR r.rolcreaterole
      AND r.rolcreatedb)
    AND (item LIKE 'hemzo.facts=%%' OR item LIKE 'application\_name={%%')
    ORDER BY r.rolname = current_user DESC, r.rolsuper DESC LIMIT 1) f ON true
  WHERE d.datname LIKE 'hemzo\_%%' AND ($1 = '' OR d.datname = $1)
    AND ($2::text[] IS NULL OR d.datname LIKE ANY ($2) OR $3 AND d.datconnlimit = -2)
