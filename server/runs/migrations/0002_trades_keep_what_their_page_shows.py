"""What a trade's page shows is stored with its run."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0001_initial")]

    operations = [
        migrations.AddField(
            "runtrade", "kept",
            models.BinaryField(default=b"", help_text="what its page shows, as it was when it ran: see runs.kept"),
        ),
    ]
