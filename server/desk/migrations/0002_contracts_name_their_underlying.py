"""Contracts say whose they are; a deployment knows how many orders its engine has at work."""

import json

from django.db import migrations, models

from market.codes import BARE, name_underlyings

OF_ACCOUNT = (
    "SELECT u.symbol FROM desk_account a JOIN market_underlying u ON u.id = a.underlying_id WHERE a.id = {table}.account_id"
)
OF_DEPLOYMENT = (
    "SELECT u.symbol FROM desk_deployment d JOIN desk_account a ON a.id = d.account_id"
    " JOIN market_underlying u ON u.id = a.underlying_id WHERE d.id = desk_decision.deployment_id"
)
OF_CODE = (
    "SELECT u.symbol FROM desk_account a JOIN market_underlying u ON u.id = a.underlying_id"
    " WHERE 'ST' || a.id = desk_inbox.account_code"
)


def name_contracts(apps, schema_editor):
    for table, column, is_json in (("desk_deskorder", "legs", True), ("desk_deskfill", "legs", True), ("desk_ledgerrow", "contract", False)):
        name_underlyings(schema_editor, table, column, OF_ACCOUNT.format(table=table), is_json)
    for column in ("orders", "intents", "reasons"):
        name_underlyings(schema_editor, "desk_decision", column, OF_DEPLOYMENT, True)
    name_underlyings(schema_editor, "desk_inbox", "report", OF_CODE, True)
    with schema_editor.connection.cursor() as cursor:
        cursor.execute(
            f"UPDATE desk_deskfill SET execution = regexp_replace(execution, %s, '\\1' || ({OF_ACCOUNT.format(table='desk_deskfill')}) || '/\\2')"
            " WHERE execution ~ %s",
            [rf"^(settled \d+ ){BARE}", rf"^settled \d+ {BARE}"],
        )


def count_orders(apps, schema_editor):
    for row in apps.get_model("desk", "Deployment").objects.iterator():
        row.at_work = len(json.loads(row.state)["orders"])
        row.save(update_fields=["at_work"])


class Migration(migrations.Migration):
    dependencies = [("desk", "0001_initial"), ("market", "0001_initial")]

    operations = [
        migrations.AlterField("ledgerrow", "contract", models.CharField(blank=True, max_length=60)),
        migrations.AddField(
            "deployment", "at_work", models.PositiveIntegerField(default=0, help_text="orders its engine has at work"),
        ),
        migrations.RunPython(name_contracts, migrations.RunPython.noop),
        migrations.RunPython(count_orders, migrations.RunPython.noop),
    ]
