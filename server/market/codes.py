"""Contracts in stored rows that say no underlying yet, given theirs: for migrations."""

from __future__ import annotations

from typing import Any

BARE = r"(\d{4}-\d\d-\d\d/(?:call|put)/)"
"""How the code of a contract began when it did not name its underlying."""


def name_underlyings(schema_editor: Any, table: str, column: str, symbol: str, json: bool) -> None:
    """Put the symbol (an SQL expression over ``table``) before every bare contract code of a column."""
    text, back = (f"{column}::text", "::jsonb") if json else (column, "")
    pattern, before = (f'"{BARE}', '"') if json else (f"^{BARE}", "")
    with schema_editor.connection.cursor() as cursor:
        cursor.execute(
            f"UPDATE {table} SET {column} = regexp_replace({text}, %s, %s || ({symbol}) || '/\\1', 'g'){back}"
            f" WHERE {text} ~ %s AND ({symbol}) IS NOT NULL",
            [pattern, before, pattern],
        )
