"""Currency, calendar and price steps become terms by date; calendars of one's own."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

STEPS = "price steps of the exchange: from which price on, and the step"


def fill(apps, schema_editor):
    """Periods that are there hold with the currency and calendar of their underlying."""
    for period in apps.get_model("market", "TermsChange").objects.select_related("underlying"):
        period.currency, period.calendar = period.underlying.currency, period.underlying.calendar
        period.save(update_fields=["currency", "calendar"])


class Migration(migrations.Migration):
    dependencies = [("market", "0008_extras"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]

    operations = [
        migrations.CreateModel(
            name="CalendarRules",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=20, unique=True)),
                ("rules", models.JSONField(help_text="of strell_core.market.calendars.OwnCalendar")),
                (
                    "owner",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="calendars",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
            options={"ordering": ["name"]},
        ),
        migrations.AddField("underlying", "ticks", models.JSONField(default=list, help_text=STEPS)),
        migrations.AddField("termschange", "ticks", models.JSONField(default=list, help_text=STEPS)),
        migrations.AddField("termschange", "currency", models.CharField(default="", max_length=3), preserve_default=False),
        migrations.AddField("termschange", "calendar", models.CharField(default="", max_length=20), preserve_default=False),
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]
