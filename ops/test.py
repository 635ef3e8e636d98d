"""Run every test with Django's runner and close with one line of totals."""

import os
import sys
import unittest
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "core"), str(PROJECT / "server")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
os.environ.setdefault("STRELL_LOG_LEVEL", "ERROR")

import django  # noqa: E402

django.setup()

from django.conf import settings  # noqa: E402
from django.test.runner import DiscoverRunner  # noqa: E402

# caches of the demo's data and of the tests' never meet
settings.CHAIN_CACHE = settings.STATE / "test-cubes"


class Runner(DiscoverRunner):
    """Django's runner, which also says the totals."""

    def suite_result(self, suite: unittest.TestSuite, result: unittest.TestResult, **kwargs: object) -> int:
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
        self.totals = f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed{skipped}"
        return super().suite_result(suite, result, **kwargs)


def main() -> int:
    runner = Runner(verbosity=1, interactive=False, pattern="test_*.py", top_level=None)
    failures = runner.run_tests(sys.argv[1:])
    print(runner.totals)
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
