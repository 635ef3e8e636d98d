"""Replay as a stage of every strategy's track."""

from django.apps import AppConfig


class ReplayConfig(AppConfig):
    name = "replay"

    def ready(self) -> None:
        from replay.queries import on_track
        from strategies.track import stage

        stage(on_track)
