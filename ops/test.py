"""Run tests with Django's runner and its arguments (``-k``, ``--failfast``, ``--parallel``, dotted labels); close with
one line of totals."""

import argparse
import multiprocessing
import multiprocessing.util
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "core"), str(PROJECT / "server"), str(PROJECT / "gateways")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
os.environ.setdefault("STRELL_LOG_LEVEL", "ERROR")
# nobody needs a test's rows after the power fails
os.environ.setdefault("PGOPTIONS", "-c synchronous_commit=off")

import django  # noqa: E402

django.setup()

import hypothesis  # noqa: E402
from django.conf import settings  # noqa: E402
from django.db import connections  # noqa: E402
from django.test import SimpleTestCase, TestCase  # noqa: E402
from django.test.runner import (  # noqa: E402
    DiscoverRunner,
    ParallelTestSuite,
    RemoteTestResult,
    RemoteTestRunner,
    _init_worker,
)

# on a build machine properties are tried on the same examples every time; here they roam
# whether drawing one is slow says how busy the machine is
hypothesis.settings.register_profile(
    "strell", derandomize=bool(os.environ.get("CI")), suppress_health_check=[hypothesis.HealthCheck.too_slow]
)
hypothesis.settings.load_profile("strell")

# files of the demo's data and of the tests' never meet
settings.CHAIN_CACHE = settings.STATE / "test-cubes"
settings.INTAKE = settings.STATE / "test-intake"
settings.FIX_STATE = settings.STATE / "test-fix"
# a test's password need not be dear to try
settings.PASSWORD_HASHERS = ["config.tests.passwords.CheapArgon2"]


ALL = ["core", "server", "gateways", "browser_tests"]
SIDE_BY_SIDE = 3
"""Workers of a run of every test: while one waits for the database or a browser, others compute."""
SHOWN = 12
TOOK: list[tuple[float, float, str]] = []
"""Of every test: its seconds, how many of them its process computed, its name."""
Clocks = tuple[float, float]


def clocks() -> Clocks:
    """What time it is, and how long this process and those it waited for have computed."""
    spent = os.times()
    return time.monotonic(), spent.user + spent.system + spent.children_user + spent.children_system


class CountingResult(unittest.TextTestResult):
    """A result that counts tests that passed, and knows how long each took; a class that cannot be set up passes
    none."""

    passed = 0
    began: Clocks | None = None

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self.began = clocks()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().stopTest(test)
        if self.began is not None:
            self.took(test, self.began, clocks())

    def took(self, test: unittest.TestCase, began: Clocks, ended: Clocks) -> None:
        TOOK.append((ended[0] - began[0], ended[1] - began[1], test.id()))
        self.began = None

    def addSuccess(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().addSuccess(test)
        self.passed += 1


def work_apart(counter: object, *args: object, **kwargs: object) -> None:
    """A worker of a parallel run: its database is its own, and so are the files it makes beside it."""
    _init_worker(counter, *args, **kwargs)
    # some tests start processes of their own
    multiprocessing.current_process()._config["daemon"] = False
    own = settings.STATE / f"test-worker-{django.test.runner._worker_id}"
    for name in ("CHAIN_CACHE", "INTAKE", "FIX_STATE"):
        setattr(settings, name, own / name.lower())


class TimedRemoteResult(RemoteTestResult):
    """Tells the parent how long each test took where it ran."""

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self.began = clocks()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        self.events.append(("took", self.test_index, self.began, clocks()))
        super().stopTest(test)


class TimedRemoteRunner(RemoteTestRunner):
    resultclass = TimedRemoteResult


class ApartSuite(ParallelTestSuite):
    """Classes side by side. Those tagged ``long`` come first of their kind, so that nobody waits for one at the end;
    kinds keep Django's order, for the last may leave something in the database. What takes the database away from all who use it
    (``last``) is behind everything."""

    init_worker = work_apart
    runner_class = TimedRemoteRunner

    def __init__(self, subsuites: list[unittest.TestSuite], *args: object, **kwargs: object) -> None:
        def place(suite: unittest.TestSuite) -> tuple[int, bool]:
            test = next(iter(suite))
            tags = getattr(test, "tags", ())
            kind = 0 if isinstance(test, TestCase) else 1 if isinstance(test, SimpleTestCase) else 2
            return 3 if "last" in tags else kind, "long" not in tags

        super().__init__(sorted(subsuites, key=place), *args, **kwargs)


class Runner(DiscoverRunner):
    """Django's runner, which also says the totals."""

    parallel_test_suite = ApartSuite

    def get_resultclass(self) -> type[unittest.TestResult]:
        return CountingResult

    def setup_databases(self, **kwargs: object) -> list:
        """Databases of tests side by side are copies of one that has the scenario which most of them need."""
        from config.tests.demo import load_short_scenario

        workers, self.parallel = self.parallel, 0
        old_config = super().setup_databases(**kwargs)
        self.parallel = workers
        if old_config and workers > 1:
            load_short_scenario()
            for connection, _, _ in old_config:
                for number in range(workers):
                    connection.creation.clone_test_db(str(number + 1), verbosity=0)
        return old_config

    def teardown_databases(self, old_config: list, **kwargs: object) -> None:
        """End sessions that killed processes left behind, or the test database could not be dropped."""
        for connection, _, _ in old_config:
            name = connection.settings_dict["NAME"]
            connections.close_all()
            with connection._nodb_cursor() as cursor:
                # web and worker of the stories end with this process: until then they come back
                cursor.execute(f"ALTER DATABASE {connection.ops.quote_name(name)} WITH ALLOW_CONNECTIONS false")
                cursor.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                    "WHERE datname = %s AND backend_type = 'client backend'",
                    [name],
                )
        super().teardown_databases(old_config, **kwargs)

    def suite_result(self, suite: unittest.TestSuite, result: CountingResult, **kwargs: object) -> int:
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        self.totals = (result.passed, failed, len(result.skipped))
        return super().suite_result(suite, result, **kwargs)


def dotted(label: str) -> str:
    """A file as Python names it; everything else as it is."""
    if not label.endswith(".py"):
        return label
    parts = Path(label).with_suffix("").parts
    return ".".join(parts[1:] if parts[0] in ("core", "server", "gateways") else parts)


def main() -> int:
    # what tests lay aside, their workers too, goes with the run
    with tempfile.TemporaryDirectory(prefix="strell-tests-") as place:
        os.environ["TMPDIR"] = tempfile.tempdir = place
        failed = tested()
        # multiprocessing would look for its own folder in there at the very end
        multiprocessing.util._run_finalizers()
        return failed


def tested() -> int:
    """Runs what the command line names and says how it went: 1 where something failed."""
    parser = argparse.ArgumentParser(prog="./strell test", description="Run every test, or those named.")
    parser.add_argument("labels", nargs="*", help="folders, files or dotted names, like core or server/desk")
    Runner.add_arguments(parser)
    parser.set_defaults(pattern="test_*.py", durations=None)
    given = parser.parse_args()
    labels = [dotted(label) for label in given.labels] or ALL
    if not given.labels:
        # every test: side by side unless told otherwise, in an order drawn anew, whose seed Django prints
        given.parallel = given.parallel or SIDE_BY_SIDE
        given.shuffle = given.shuffle or random.randrange(10**9)
        # of the largest sets of examples a part is tried, another one each time
        os.environ.setdefault("STRELL_DRAWN", str(given.shuffle))
    options = {name: value for name, value in vars(given).items() if name != "labels"}
    began = time.monotonic()
    if given.parallel > 1:
        arrange()
        print(f"arranged in {time.monotonic() - began:.0f} s")
    runner = Runner(verbosity=1, interactive=False, **options)
    failures = runner.run_tests(labels)
    whole, computed = (sum(took[part] for took in TOOK) for part in (0, 1))
    print(f"the {min(SHOWN, len(TOOK))} slowest of {whole:.0f} s, {computed:.0f} of them computing:")
    for seconds, _, name in sorted(TOOK, reverse=True)[:SHOWN]:
        print(f"{seconds:7.1f} s  {name}")
    every = "".join(f"{seconds:.2f} {busy:.2f} {name}\n" for seconds, busy, name in sorted(TOOK, reverse=True))
    (settings.STATE / "test-seconds.txt").write_text(every)
    print(f"the whole took {time.monotonic() - began:.0f} s")
    passed, failed, skipped = getattr(runner, "totals", (0, 0, 0))
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failures else 0


def arrange() -> None:
    """What tests side by side share and would else each make for themselves: generated histories and compiled
    kernels, of European and of American pricing, and of a variant's walk."""
    from decimal import Decimal

    from strell_core.engine.plan import make_plan
    from strell_core.engine.variants import Variants
    from strell_core.market.market import Market
    from strell_core.strategy.document import parse
    from tests.demo import demo_history, short_history
    from tests.examples import example
    from tests.payers import PAYERS, payer

    compiling = subprocess.Popen([sys.executable, str(PROJECT / "ops" / "compiled.py")])
    american = threading.Thread(target=lambda: [payer(name) for name in PAYERS])
    american.start()
    demo_history(), short_history()
    compiling.wait()
    market = Market(short_history())
    plan = make_plan(parse(example("harbour-strangle")), market)
    Variants(market, 0, len(market.main.times)).run(plan, Decimal(50_000))
    american.join()


if __name__ == "__main__":
    sys.exit(main())
