from django.db import migrations, models

import practice_broker.models


class Migration(migrations.Migration):
    dependencies = [("practice_broker", "0002_contracts_name_their_underlying")]

    operations = [
        migrations.CreateModel(
            name="BrokerAccount",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("code", models.CharField(default=practice_broker.models.new_code, max_length=20, unique=True)),
                ("opened_at", models.DateTimeField(auto_now_add=True)),
            ],
        ),
    ]
