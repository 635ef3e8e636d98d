"""Run every test with Django's runner and close with one line of totals."""

import os
import sys
import time
import unittest
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "core"), str(PROJECT / "server"), str(PROJECT / "gateways")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
os.environ.setdefault("STRELL_LOG_LEVEL", "ERROR")

import django  # noqa: E402

django.setup()

import hypothesis  # noqa: E402
from django.conf import settings  # noqa: E402
from django.db import connections  # noqa: E402
from django.test.runner import DiscoverRunner  # noqa: E402

# on a build machine properties are tried on the same examples every time; here they roam
hypothesis.settings.register_profile("build", derandomize=True)
if os.environ.get("CI"):
    hypothesis.settings.load_profile("build")

# files of the demo's data and of the tests' never meet
settings.CHAIN_CACHE = settings.STATE / "test-cubes"
settings.INTAKE = settings.STATE / "test-intake"


TOOK: list[tuple[float, str]] = []
"""Seconds of every test."""
SHOWN = 12


class CountingResult(unittest.TextTestResult):
    """A result that counts tests that passed, and knows how long each took; a class that cannot be set up passes
    none."""

    passed = 0

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self.began = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().stopTest(test)
        TOOK.append((time.monotonic() - self.began, test.id()))

    def addSuccess(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().addSuccess(test)
        self.passed += 1


class Runner(DiscoverRunner):
    """Django's runner, which also says the totals."""

    def get_resultclass(self) -> type[unittest.TestResult]:
        return CountingResult

    def teardown_databases(self, old_config: list, **kwargs: object) -> None:
        """End sessions that killed processes left behind, or the test database could not be dropped."""
        for connection, _, _ in old_config:
            name = connection.settings_dict["NAME"]
            connections.close_all()
            with connection._nodb_cursor() as cursor:
                cursor.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", [name])
        super().teardown_databases(old_config, **kwargs)

    def suite_result(self, suite: unittest.TestSuite, result: CountingResult, **kwargs: object) -> int:
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
        self.totals = f"{result.passed} passed, {failed} failed{skipped}"
        return super().suite_result(suite, result, **kwargs)


def main() -> int:
    runner = Runner(verbosity=1, interactive=False, pattern="test_*.py", top_level=None)
    failures = runner.run_tests(sys.argv[1:])
    print(f"the {min(SHOWN, len(TOOK))} slowest of {sum(seconds for seconds, _ in TOOK):.0f} s in tests:")
    for seconds, name in sorted(TOOK, reverse=True)[:SHOWN]:
        print(f"{seconds:7.1f} s  {name}")
    print(runner.totals)
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
