"""Kill desk, gateway and broker at every boundary of outbox and inbox, many times, and count afterwards.

Not a measurement of speed: the long version of the test in gateways/fix_gateway/tests/test_kills.py.
Usage: ./strell kills [COUNT]   (200 without a count). Ends with what differs between ledger and broker.
"""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), *(str(PROJECT / name) for name in ("core", "server", "gateways"))]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
os.environ.setdefault("STRELL_LOG_LEVEL", "ERROR")

import django  # noqa: E402

django.setup()

from django.conf import settings  # noqa: E402
from django.contrib.auth.models import User  # noqa: E402
from django.db import connection  # noqa: E402
from django.test.runner import DiscoverRunner  # noqa: E402

from config.tests.demo import load_short_scenario  # noqa: E402
from desk.models import DeskFill  # noqa: E402
from fix_gateway.tests.kills import Arena, run  # noqa: E402


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    connection.settings_dict["TEST"]["NAME"] = "test_strell_kills"
    settings.CHAIN_CACHE = settings.STATE / "test-cubes"
    runner = DiscoverRunner(interactive=False, verbosity=0)
    old = runner.setup_databases()
    arena = None
    began = time.monotonic()
    try:
        load_short_scenario()
        user = User.objects.create_user("ines", password="quiet-harbour-9", is_staff=True)
        arena = Arena(user, settings.STATE / "kills-fix")
        killed = run(arena, count)
        faults = arena.faults()
        orders = arena.account.orders
        print(f"\n{sum(killed.values())} kills in {time.monotonic() - began:.0f} s")
        for where, times in sorted(killed.items()):
            print(f"  {where:32s} {times}")
        fills = DeskFill.objects.filter(account=arena.account).count()
        print(f"{orders.count()} orders, {fills} fills; differences between ledger and broker: {faults or 'none'}")
        return 1 if faults else 0
    finally:
        if arena is not None:
            arena.stop()
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s AND pid <> pg_backend_pid()",
                [connection.settings_dict["NAME"]],
            )
        runner.teardown_databases(old)


if __name__ == "__main__":
    sys.exit(main())
