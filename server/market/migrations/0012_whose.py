"""Underlyings get an owner: what one person alone loaded is theirs, everything else the operator's."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


def find_owners(apps, schema_editor):
    Underlying = apps.get_model("market", "Underlying")
    Chain = apps.get_model("market", "SessionChainRow")
    for row in Underlying.objects.filter(venue=None):
        owners = set(Chain.objects.filter(underlying=row).values_list("intake__owner", flat=True).distinct())
        if len(owners) == 1 and None not in owners:
            row.owner_id = owners.pop()
            row.save(update_fields=["owner"])


class Migration(migrations.Migration):
    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
        ("market", "0011_the_underlying_is_quoted"),
    ]

    operations = [
        migrations.AddField(
            model_name="underlying",
            name="owner",
            field=models.ForeignKey(
                help_text="who loaded it and may change it; nobody: the operator",
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="underlyings",
                to=settings.AUTH_USER_MODEL,
            ),
        ),
        migrations.RunPython(find_owners, migrations.RunPython.noop),
    ]
