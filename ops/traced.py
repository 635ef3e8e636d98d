"""Which tests of the core run which lines: its fast tests once, traced, for `ops/mutate.py`.

`traced.py SITE OUT`: SITE is where coverage.py is installed, OUT gets JSON: by file and line the tests that ran it (a
class's name for what its set-up ran), and the seconds each test took.
"""

from __future__ import annotations

import json
import sys
import unittest
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT / "ops")]


def main(site: str, out: str) -> int:
    sys.path.append(site)
    import coverage

    tracer = coverage.Coverage(data_file=None, source=[str(PROJECT / "core" / "strell_core")])
    tracer.start()
    import test as runner

    class Result(runner.CountingResult):
        def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
            tracer.switch_context(test.id())
            super().startTest(test)

    class Suite(unittest.TestSuite):
        def _handleClassSetUp(self, test: unittest.TestCase, result: unittest.TestResult) -> None:  # noqa: N802
            tracer.switch_context(f"{type(test).__module__}.{type(test).__qualname__}")
            super()._handleClassSetUp(test, result)

    class Traced(runner.Runner):
        test_suite = Suite

        def get_resultclass(self) -> type[unittest.TestResult]:
            return Result

    runner.Runner = Traced
    sys.argv = ["traced", "core", "--exclude-tag", "long"]
    failed = runner.main()
    tracer.stop()
    data = tracer.get_data()
    lines = {
        str(Path(file).relative_to(PROJECT)): {
            line: [name for name in names if name] for line, names in data.contexts_by_lineno(file).items()
        }
        for file in data.measured_files()
    }
    Path(out).write_text(json.dumps({"lines": lines, "seconds": {name: took for took, _, name in runner.TOOK}}))
    return failed


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
