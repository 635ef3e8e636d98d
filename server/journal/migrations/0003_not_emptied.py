"""The journal is not emptied either: a trigger for each row does not see TRUNCATE."""

from django.db import migrations

FORWARD = """
CREATE TRIGGER journal_not_emptied BEFORE TRUNCATE ON journal_journalentry
FOR EACH STATEMENT EXECUTE FUNCTION journal_is_append_only();
"""
BACK = "DROP TRIGGER journal_not_emptied ON journal_journalentry;"


class Migration(migrations.Migration):
    dependencies = [("journal", "0002_append_only")]

    operations = [migrations.RunSQL(FORWARD, BACK)]
