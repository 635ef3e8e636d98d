from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0003_runs_name_their_open_trades")]

    operations = [
        migrations.AddField(
            model_name="run",
            name="deleted_at",
            field=models.DateTimeField(null=True, help_text="gone from every page; it can be brought back for a day"),
        ),
    ]
