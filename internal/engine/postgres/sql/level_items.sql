SELECT 'owner' AS kind, '' AS role, '' AS name, pg_get_userbyid(d.datdba)::text AS value
  UNION ALL SELECT 'limit', '', '', d.datconnlimit::text
  UNION ALL SELECT 'template', '', '', d.datistemplate::text
  UNION ALL SELECT CASE WHEN a.grantee = d.datdba THEN 'owner right' ELSE 'right' END, CASE WHEN a.grantee
    IN (0, d.datdba) THEN '' ELSE pg_get_userbyid(a.grantee)::text END, a.privilege_type, a.is_grantable::text
    FROM aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a
  UNION ALL SELECT 'setting', coalesce(r.rolname, ''), split_part(item, '=', 1), substr(item, strpos(item, '=') + 1)
    FROM pg_db_role_setting s LEFT JOIN pg_roles r ON r.oid = s.setrole CROSS JOIN unnest(s.setconfig) item
    WHERE s.setdatabase = d.oid AND (s.setrole = 0 OR NOT (r.rolsuper OR r.rolname = current_user)
      OR NOT (item LIKE 'hemzo.facts=%%' OR item LIKE 'application\_name={%%'))
  UNION ALL SELECT 'comment', '', '', c.description FROM pg_shdescription c WHERE c.objoid = d.oid
    AND c.classoid = 'pg_database'::regclass AND %t
  UNION ALL SELECT 'security label', '', l.provider, l.label FROM pg_shseclabel l WHERE l.objoid = d.oid
    AND l.classoid = 'pg_database'::regclass
  UNION ALL SELECT 'subscription', '', u.subname::text, concat_ws(' ', u.subenabled, u.subslotname,
    u.subpublications::text) FROM pg_subscription u WHERE u.subdbid = d.oid
