"""Desk as a stage of every strategy's track."""

from django.apps import AppConfig


class DeskConfig(AppConfig):
    name = "desk"

    def ready(self) -> None:
        from desk.queries import on_track
        from strategies.track import stage

        stage(on_track)
