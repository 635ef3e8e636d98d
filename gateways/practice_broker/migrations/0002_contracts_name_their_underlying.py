"""Contracts say whose they are."""

from django.db import migrations

from market.codes import name_underlyings


def name_contracts(apps, schema_editor):
    name_underlyings(schema_editor, "practice_broker_brokerorder", "legs", "symbol", True)
    name_underlyings(schema_editor, "practice_broker_brokerexecution", "report", "report->>'symbol'", True)


class Migration(migrations.Migration):
    dependencies = [("practice_broker", "0001_initial")]

    operations = [migrations.RunPython(name_contracts, migrations.RunPython.noop)]
