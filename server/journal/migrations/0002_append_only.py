"""The database itself refuses to change or delete an entry."""

from django.db import migrations

FORWARD = """
CREATE FUNCTION journal_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'the journal is append-only';
END $$;
CREATE TRIGGER journal_append_only BEFORE UPDATE OR DELETE ON journal_journalentry
  FOR EACH ROW EXECUTE FUNCTION journal_is_append_only();
"""
BACK = "DROP TRIGGER journal_append_only ON journal_journalentry; DROP FUNCTION journal_is_append_only();"


class Migration(migrations.Migration):
    dependencies = [("journal", "0001_initial")]
    operations = [migrations.RunSQL(FORWARD, BACK)]
