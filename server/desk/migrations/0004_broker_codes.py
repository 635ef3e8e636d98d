"""Accounts at the broker get codes that cannot be guessed; what was said of them before is told under the new ones."""

from django.db import migrations, models


def give_codes(apps, schema_editor):
    BrokerAccount = apps.get_model("practice_broker", "BrokerAccount")
    Order = apps.get_model("practice_broker", "BrokerOrder")
    Execution = apps.get_model("practice_broker", "BrokerExecution")
    Inbox = apps.get_model("desk", "Inbox")
    for account in apps.get_model("desk", "Account").objects.filter(kind="practice"):
        before, account.broker_code = f"ST{account.pk}", BrokerAccount.objects.create().code
        account.save(update_fields=["broker_code"])
        Order.objects.filter(account=before).update(account=account.broker_code)
        Inbox.objects.filter(account_code=before).update(account_code=account.broker_code)
        for row in Execution.objects.filter(account=before):
            row.account, row.report["account"] = account.broker_code, account.broker_code
            row.save(update_fields=["account", "report"])


class Migration(migrations.Migration):
    dependencies = [("desk", "0003_kinds_of_fills"), ("practice_broker", "0003_accounts")]

    operations = [
        migrations.AddField(
            model_name="account",
            name="broker_code",
            field=models.CharField(blank=True, help_text="what its broker calls it: Account (1)", max_length=20),
        ),
        migrations.RunPython(give_codes, migrations.RunPython.noop),
    ]
