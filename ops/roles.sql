-- Three roles: strell_admin is the server's superuser, strell_owner owns the tables and changes them (migrations, tests),
-- strell is what the application runs as. Passwords come as psql variables. Run by a superuser, again at every start.
SELECT format('CREATE ROLE %I LOGIN', name) FROM unnest(ARRAY['strell', 'strell_owner']) AS name
  WHERE NOT EXISTS (SELECT FROM pg_roles WHERE rolname = name) \gexec
ALTER ROLE strell NOSUPERUSER NOCREATEDB NOCREATEROLE PASSWORD :'app';
ALTER ROLE strell_owner NOSUPERUSER CREATEDB NOCREATEROLE PASSWORD :'owner';
GRANT pg_signal_backend TO strell_owner;
SELECT 'CREATE DATABASE strell OWNER strell_owner'
  WHERE NOT EXISTS (SELECT FROM pg_database WHERE datname = 'strell') \gexec
ALTER DATABASE strell OWNER TO strell_owner;
