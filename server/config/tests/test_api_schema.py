"""The front end's types are generated from web/openapi.json; it must be this server's."""

from __future__ import annotations

import json

from django.conf import settings
from django.test import SimpleTestCase

from config.api import api


class ApiSchemaTest(SimpleTestCase):
    def test_the_file_is_what_the_server_says(self) -> None:
        """If this fails: ./strell types."""
        kept = json.loads((settings.PROJECT / "web" / "openapi.json").read_text())
        self.assertEqual(json.loads(json.dumps(api.get_openapi_schema())), kept)

    def test_every_operation_has_a_name_of_its_own(self) -> None:
        names = [o["operationId"] for methods in api.get_openapi_schema()["paths"].values() for o in methods.values()]
        self.assertEqual(len(names), len(set(names)))
