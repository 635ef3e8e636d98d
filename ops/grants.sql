-- What the running application may do with the tables of the database it is connected to: read and write rows, and add to
-- the journal. It owns nothing, so it can neither empty nor change a table, nor take a trigger away.
GRANT USAGE ON SCHEMA public TO strell;
GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO strell;
GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO strell;
GRANT EXECUTE ON ALL FUNCTIONS IN SCHEMA public TO strell;
DO $$ BEGIN
  IF to_regclass('public.journal_journalentry') IS NOT NULL THEN
    REVOKE UPDATE, DELETE ON journal_journalentry FROM strell;
  END IF;
END $$;
