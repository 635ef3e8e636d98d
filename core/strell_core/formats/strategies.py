"""Strategy files: YAML (or JSON, which is YAML) with errors at their line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import yaml

from strell_core.strategy.document import DocumentError, written
from strell_core.strategy.edits import in_order
from strell_core.strategy.parts import Problem

MAX_BYTES = 200_000
MAX_DEPTH = 12
MAX_VALUES = 20_000
MAX_SCALAR = 2_000
"""Characters of one value; a note is the longest there is."""


class StrategyFileError(ValueError):
    """A file that is not a strategy; ``problems`` are ``(line, path, message)``, lines from 1."""

    def __init__(self, problems: list[tuple[int, str, str]]) -> None:
        super().__init__("; ".join(f"line {line}: {message}" for line, _, message in problems))
        self.problems = problems


class _Plain(yaml.SafeDumper):
    """Writes what stands at two places twice: references are not read."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


def to_text(document: Mapping[str, Any]) -> str:
    """A document as YAML text; :func:`from_text` gives the same document back."""
    return yaml.dump(
        in_order(document), Dumper=_Plain, sort_keys=False, allow_unicode=True, default_flow_style=None, width=100
    )


def from_text(text: str) -> dict[str, Any]:
    """Parse and normalise a strategy file; raises :class:`StrategyFileError`."""
    if len(text.encode()) > MAX_BYTES:
        raise StrategyFileError([(1, "", f"a strategy file is at most {MAX_BYTES // 1000} kB")])
    try:
        _refuse_work(text)
        loader = yaml.CSafeLoader(text)
        node = loader.get_single_node()
        raw = None if node is None else loader.construct_document(node)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        raise StrategyFileError([(mark.line + 1 if mark else 1, "", error.problem or "not valid YAML")]) from error
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise StrategyFileError([(1, "", f"not valid YAML: {str(error).splitlines()[0]}")]) from error
    try:
        return written(raw)
    except DocumentError as error:
        raise StrategyFileError(
            [(line_of(node, problem), problem.path, problem.message) for problem in error.problems]
        ) from error


def _refuse_work(text: str) -> None:
    """Aliases let a small file grow without bound, and a strategy needs none; neither does it need thousands of values,
    or numbers of thousands of digits."""
    depth = 0
    for count, event in enumerate(yaml.parse(text, Loader=yaml.CSafeLoader), 1):
        if count > MAX_VALUES:
            raise yaml.MarkedYAMLError(problem=f"more than {MAX_VALUES} values", problem_mark=_mark(event))
        if isinstance(event, yaml.ScalarEvent) and len(event.value) > MAX_SCALAR:
            raise yaml.MarkedYAMLError(
                problem=f"a value of more than {MAX_SCALAR} characters", problem_mark=_mark(event)
            )
        if isinstance(event, yaml.AliasEvent):
            raise yaml.MarkedYAMLError(problem="references (*name) are not allowed", problem_mark=_mark(event))
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
            if depth > MAX_DEPTH:
                raise yaml.MarkedYAMLError(problem="nested too deeply", problem_mark=_mark(event))
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1


def _mark(event: Any) -> Any:
    return event.start_mark


def line_of(node: yaml.Node | None, problem: Problem) -> int:
    """Line (from 1) of the deepest existing part of a problem's path."""
    line = 1
    for part in problem.path.split("/") if problem.path else []:
        found: tuple[int, yaml.Node] | None = None
        if isinstance(node, yaml.MappingNode):
            for key, value in node.value:
                if getattr(key, "value", None) == part:
                    found = (key.start_mark.line, value)
        elif isinstance(node, yaml.SequenceNode) and part.isdigit() and int(part) < len(node.value):
            found = (node.value[int(part)].start_mark.line, node.value[int(part)])
        if found is None:
            break
        line, node = found[0] + 1, found[1]
    return line
