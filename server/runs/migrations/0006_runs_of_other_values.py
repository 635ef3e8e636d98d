"""A run may have values of its own beside its revision's; its digest is of what it ran."""

from django.db import migrations, models
from django.db.models import OuterRef, Subquery


def as_its_revision(apps, schema_editor):
    runs, revisions = apps.get_model("runs", "Run"), apps.get_model("strategies", "Revision")
    own = revisions.objects.filter(pk=OuterRef("revision_id")).values("digest")[:1]
    runs.objects.update(digest=Subquery(own))


class Migration(migrations.Migration):
    dependencies = [("runs", "0005_ranges_and_variants"), ("strategies", "0002_documents_of_any_format")]

    operations = [
        migrations.AddField(
            model_name="run",
            name="values",
            field=models.JSONField(
                default=dict, help_text="of a sweep's variant: what it has instead of its revision's, by path"
            ),
        ),
        migrations.AddField(
            model_name="run",
            name="digest",
            field=models.CharField(default="", help_text="of what decides, as in a revision", max_length=64),
            preserve_default=False,
        ),
        migrations.RunPython(as_its_revision, migrations.RunPython.noop),
    ]
