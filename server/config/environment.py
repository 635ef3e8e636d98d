"""What Strell reads from its environment: typed, in one place, every missing or wrong value said at once."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from django.core.exceptions import ImproperlyConfigured
from pydantic import BaseModel, ConfigDict, Field, ValidationError

PROJECT = Path(__file__).resolve().parents[2]


class Environment(BaseModel):
    """Each value is the environment's ``STRELL_`` with its name in capitals; ``./strell`` sets what has no default."""

    model_config = ConfigDict(frozen=True)

    secret_key: str = Field(min_length=16)
    db_password: str = Field(min_length=1)
    db_port: int = Field(ge=1, le=65_535)
    db_host: str = "127.0.0.1"
    db_name: str = "strell"
    db_user: str = "strell"
    hosts: str = "127.0.0.1,localhost"
    """Names it may be asked under, with commas between."""
    state: Path = PROJECT / ".state"
    """Folder of everything it makes beside the database; the next three lie in it unless they are named."""
    chain_cache: Path | None = None
    intake: Path | None = None
    fix_state: Path | None = None
    run_lease: int = Field(default=15, ge=1)
    """Seconds after which a run whose worker is not heard of is taken up again."""
    stale_seconds: int = Field(default=5, ge=1)
    """Nothing is opened on quotes older than this; tests on a busy machine wait longer for the exchange."""
    log_level: str = Field(default="WARNING", pattern="^(DEBUG|INFO|WARNING|ERROR|CRITICAL)$")
    kill_at: str = ""
    """Names of boundaries at which a process kills itself, for tests of what survives."""


def read(given: Mapping[str, str] | None = None) -> Environment:
    """The environment's values; raises :class:`ImproperlyConfigured` that lists all that is missing or wrong."""
    source = os.environ if given is None else given
    values = {name: source[key] for name in Environment.model_fields if (key := f"STRELL_{name.upper()}") in source}
    try:
        return Environment(**{name: value for name, value in values.items() if value != ""})  # type: ignore[arg-type]
    except ValidationError as error:
        lines = [f"STRELL_{str(item['loc'][0]).upper()}: {_words(dict(item))}" for item in error.errors()]
        raise ImproperlyConfigured(
            "The environment is not what Strell needs; start it with ./strell, which sets it.\n" + "\n".join(lines)
        ) from error


def _words(item: dict[str, object]) -> str:
    return "is not set" if item["type"] == "missing" else f"{str(item['msg']).lower()}, not '{item['input']}'"
