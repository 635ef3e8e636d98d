"""Backtests as a stage of every strategy's track."""

from django.apps import AppConfig


class RunsConfig(AppConfig):
    name = "runs"

    def ready(self) -> None:
        from runs.queries import on_track
        from strategies.track import stage

        stage(on_track)
