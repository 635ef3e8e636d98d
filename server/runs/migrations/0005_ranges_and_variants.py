"""Figures have likely ranges, and what was tried is counted: also of runs from before."""

import django.db.models.deletion
from django.db import migrations, models


def count_what_was_tried(apps, schema_editor):
    runs, variants = apps.get_model("runs", "Run"), apps.get_model("runs", "Variant")
    for run in runs.objects.filter(status="done").select_related("revision").order_by("finished_at").iterator():
        variants.objects.update_or_create(
            strategy_id=run.strategy_id, digest=run.revision.digest, defaults={"sharpe": run.figures.get("sharpe")}
        )


def keep_the_range_of_growth(apps, schema_editor):
    runs = apps.get_model("runs", "Run")
    for run in runs.objects.exclude(figures__cagr_interval=None).iterator():
        known = run.figures.pop("cagr_interval", None)
        run.intervals = {"cagr": known} if known else {}
        run.save(update_fields=["figures", "intervals"])


class Migration(migrations.Migration):
    dependencies = [("runs", "0004_deleted_runs_can_come_back")]

    operations = [
        migrations.AddField(
            model_name="run",
            name="intervals",
            field=models.JSONField(default=dict, help_text="of figures that have one, their likely range"),
        ),
        migrations.CreateModel(
            name="Variant",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("digest", models.CharField(help_text="of what decides, as in a revision", max_length=64)),
                ("sharpe", models.FloatField(help_text="a year, of the latest run", null=True)),
                (
                    "strategy",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="variants", to="strategies.strategy"
                    ),
                ),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("strategy", "digest"), name="one_variant")]},
        ),
        migrations.RunPython(count_what_was_tried, migrations.RunPython.noop),
        migrations.RunPython(keep_the_range_of_growth, migrations.RunPython.noop),
    ]
