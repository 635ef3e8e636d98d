-- A database of before there were roles: everything in it becomes strell_owner's. Run by a superuser in that database.
ALTER SCHEMA public OWNER TO strell_owner;
SELECT format('ALTER %s %I OWNER TO strell_owner', CASE relkind WHEN 'S' THEN 'SEQUENCE' WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END, relname)
  FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'v', 'S', 'p')
  AND relowner <> 'strell_owner'::regrole
  AND NOT EXISTS (SELECT FROM pg_depend WHERE objid = pg_class.oid AND deptype IN ('a', 'i') AND relkind = 'S') \gexec
SELECT format('ALTER ROUTINE %s OWNER TO strell_owner', oid::regprocedure)
  FROM pg_proc WHERE pronamespace = 'public'::regnamespace AND proowner <> 'strell_owner'::regrole \gexec
SELECT format('ALTER TYPE %I OWNER TO strell_owner', typname)
  FROM pg_type WHERE typnamespace = 'public'::regnamespace AND typtype = 'e' AND typowner <> 'strell_owner'::regrole \gexec
