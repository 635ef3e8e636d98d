from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0002_trades_keep_what_their_page_shows")]

    operations = [
        migrations.AddField(
            model_name="run",
            name="open_trades",
            field=models.JSONField(default=list, help_text="trades open at its end, with their marks: see runs.rows"),
        ),
    ]
