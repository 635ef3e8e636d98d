"""Sweeps, their variants and parts."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ('strategies', '0002_documents_of_any_format'),
    ]

    operations = [
        migrations.CreateModel(
            name='Sweep',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('number', models.PositiveIntegerField()),
                ('start', models.DateField()),
                ('end', models.DateField()),
                ('cash', models.DecimalField(decimal_places=2, max_digits=14)),
                ('dials', models.JSONField(help_text='paths and values of each, see strategy.sweeps')),
                ('drawn', models.PositiveIntegerField(help_text='so many variants drawn by chance; nothing: all', null=True)),
                ('status', models.CharField(choices=[('running', 'Running'), ('done', 'Done'), ('cancelled', 'Cancelled')], default='running', max_length=12)),
                ('queued_at', models.DateTimeField(auto_now_add=True)),
                ('finished_at', models.DateTimeField(null=True)),
                ('deleted_at', models.DateTimeField(help_text='gone from every page; it can be brought back for a day', null=True)),
                ('revision', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='sweeps', to='strategies.revision')),
                ('strategy', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='sweeps', to='strategies.strategy')),
            ],
            options={
                'ordering': ['-number'],
            },
        ),
        migrations.CreateModel(
            name='Part',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('first', models.PositiveIntegerField(help_text='place of its first variant')),
                ('last', models.PositiveIntegerField(help_text='place after its last one')),
                ('status', models.CharField(choices=[('queued', 'Queued'), ('running', 'Running'), ('done', 'Done')], default='queued', max_length=12)),
                ('lease_until', models.DateTimeField(null=True)),
                ('attempts', models.PositiveIntegerField(default=0)),
                ('sweep', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='parts', to='sweeps.sweep')),
            ],
            options={
                'ordering': ['first'],
            },
        ),
        migrations.CreateModel(
            name='Cell',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('place', models.PositiveIntegerField()),
                ('at', models.JSONField(help_text='which value of every dial')),
                ('figures', models.JSONField(null=True)),
                ('daily', models.BinaryField(default=b'', help_text='returns by session, little-endian float32')),
                ('problem', models.TextField(blank=True, help_text='why these rules cannot be run')),
                ('done_at', models.DateTimeField(null=True)),
                ('done_by', models.CharField(blank=True, help_text='the worker', max_length=80)),
                ('sweep', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='cells', to='sweeps.sweep')),
            ],
            options={
                'ordering': ['place'],
            },
        ),
        migrations.AddConstraint(
            model_name='sweep',
            constraint=models.UniqueConstraint(fields=('strategy', 'number'), name='one_sweep_number'),
        ),
        migrations.AddConstraint(
            model_name='part',
            constraint=models.UniqueConstraint(fields=('sweep', 'first'), name='one_part'),
        ),
        migrations.AddConstraint(
            model_name='cell',
            constraint=models.UniqueConstraint(fields=('sweep', 'place'), name='one_cell'),
        ),
    ]
