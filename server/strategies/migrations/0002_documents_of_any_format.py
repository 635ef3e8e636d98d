"""Documents are read in the present format whatever they were written in, and what they decide has an identity that
leaves defaults out: it is computed anew, so that an unchanged strategy does not look changed."""

from django.db import migrations

import strategies.models
from strell_core.strategy.edits import rules_digest


def compute_digests(apps, schema_editor):
    for revision in apps.get_model("strategies", "Revision").objects.iterator(chunk_size=200):
        digest = rules_digest(revision.document)
        if digest != revision.digest:
            type(revision).objects.filter(pk=revision.pk).update(digest=digest)


class Migration(migrations.Migration):
    dependencies = [("strategies", "0001_initial")]

    operations = [
        migrations.AlterField("revision", "document", strategies.models.DocumentField()),
        migrations.RunPython(compute_digests, migrations.RunPython.noop),
    ]
