"""Contracts say whose they are; sessions what their rules do by themselves, fills of which leg and by which rule."""

from django.db import migrations, models

from market.codes import name_underlyings

OF_SESSION = (
    "SELECT u.symbol FROM replay_replaysession s JOIN market_underlying u ON u.id = s.underlying_id"
    " WHERE s.id = replay_replayfill.session_id"
)


def name_contracts(apps, schema_editor):
    name_underlyings(schema_editor, "replay_replayfill", "contract", OF_SESSION, False)


class Migration(migrations.Migration):
    dependencies = [("replay", "0001_initial")]

    operations = [
        migrations.AlterField("replayfill", "contract", models.CharField(max_length=60)),
        migrations.AddField(
            "replaysession", "acts",
            models.CharField(choices=[("advise", "Advise"), ("leave", "Leave"), ("live", "Live")], default="advise", max_length=8),
        ),
        migrations.AddField(
            "replaysession", "entry",
            models.CharField(default="entry", help_text="whose trade it was started from", max_length=40),
        ),
        migrations.AddField(
            "replayfill", "rule",
            models.CharField(blank=True, default="", help_text="the sentence that made it", max_length=40),
            preserve_default=False,
        ),
        migrations.AddField(
            "replayfill", "leg",
            models.CharField(blank=True, default="", help_text="the leg it is; empty: called after its contract", max_length=60),
            preserve_default=False,
        ),
        migrations.RunPython(name_contracts, migrations.RunPython.noop),
    ]
