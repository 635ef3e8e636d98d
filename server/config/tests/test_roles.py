"""The application runs as a role that owns nothing: it cannot change tables, empty the journal, or leave the database."""

from __future__ import annotations

import os
import unittest

import psycopg
from django.conf import settings
from django.db import connection
from django.test import SimpleTestCase

APP = os.environ.get("STRELL_DB_APP_PASSWORD", "")
NEVER = {
    "empties the journal": "TRUNCATE journal_journalentry",
    "empties it by another": "TRUNCATE auth_user CASCADE",
    "changes an entry": "UPDATE journal_journalentry SET text = 'x'",
    "deletes one": "DELETE FROM journal_journalentry",
    "takes the trigger away": "DROP TRIGGER journal_append_only ON journal_journalentry",
    "switches triggers off": "ALTER TABLE journal_journalentry DISABLE TRIGGER ALL",
    "acts as a replica": "SET session_replication_role = replica",
    "drops a table": "DROP TABLE desk_account CASCADE",
    "makes a table": "CREATE TABLE mine (x int)",
    "makes a role": "CREATE ROLE mine SUPERUSER",
    "becomes the owner": "SET ROLE strell_owner",
    "becomes the admin": "SET ROLE strell_admin",
    "runs a program": "COPY (SELECT 1) TO PROGRAM 'true'",
    "reads a file": "SELECT pg_read_file('/etc/passwd')",
    "makes a database": "CREATE DATABASE mine",
}


@unittest.skipUnless(APP, "run by ./strell test, which knows the application's password")
class RolesTest(SimpleTestCase):
    databases = {"default"}

    def setUp(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute((settings.PROJECT / "ops" / "grants.sql").read_text())
        known = connection.settings_dict
        self.line = psycopg.connect(
            host=known["HOST"], port=known["PORT"], dbname=known["NAME"], user="strell", password=APP, autocommit=True
        )
        self.addCleanup(self.line.close)

    def test_it_reads_and_writes_rows(self) -> None:
        self.line.execute("INSERT INTO auth_group (name) VALUES ('tried')")
        self.line.execute("UPDATE auth_group SET name = 'tried again' WHERE name = 'tried'")
        self.assertEqual(self.line.execute("DELETE FROM auth_group WHERE name = 'tried again'").rowcount, 1)
        self.line.execute("SELECT pg_notify('strell', '{}')")

    def test_what_it_never_does(self) -> None:
        for name, words in NEVER.items():
            with (
                self.subTest(name),
                self.assertRaises((psycopg.errors.InsufficientPrivilege, psycopg.errors.RaiseException)),
            ):
                self.line.execute(words)

    def test_no_role_that_signs_in_for_it_is_a_superuser(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute("SELECT rolname FROM pg_roles WHERE rolsuper AND rolcanlogin")
            self.assertEqual({name for (name,) in cursor.fetchall()}, {"strell_admin"})
            cursor.execute("SELECT current_user")
            self.assertEqual(cursor.fetchone(), ("strell_owner",))

    def test_the_journal_is_not_emptied_by_its_owner_either(self) -> None:
        with self.assertRaisesRegex(Exception, "append-only"), connection.cursor() as cursor:
            cursor.execute("TRUNCATE journal_journalentry")
