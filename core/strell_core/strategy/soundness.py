"""Whether declarations hold together: found when a process starts, not when somebody reads a sentence."""

from __future__ import annotations

import re

from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import load
from strell_core.measures.params import REFERENCES, UNNAMED, param_kinds
from strell_core.strategy import catalogue

_NAME = re.compile(r"\{(\w*)[^}]*\}")


def mistakes() -> list[str]:
    """What is wrong with any declaration of a sentence or pick, in words that name it; empty: nothing."""
    every = [d for part in catalogue.PARTS for d in catalogue.sentences(part).values()]
    every += [d for name in catalogue.PICKS for d in catalogue.picks(name).values()]
    every += [measure.declaration for measure in load().all()]
    return [f"{declaration.id}: {what}" for declaration in every for what in wrong_with(declaration)]


def wrong_with(declaration: Declaration) -> list[str]:
    """What is wrong with one declaration."""
    params = {param.name for param in declaration.params}
    nested = set(catalogue.PICKS) if declaration.id in catalogue.OPTION_LEGS else set()
    out = [
        f"its sentence names '{name}', which is no value of it"
        for name in _NAME.findall(declaration.sentence)
        if name not in params | nested
    ]
    for text in (declaration.when_true, declaration.when_false, declaration.when_unvalued):
        out += [
            f"its reason '{text}' names '{name}', which it does not tell"
            for name in _NAME.findall(text)
            if name not in params | set(declaration.tells)
        ]
    for param in declaration.params:
        if param.kind not in param_kinds:
            out.append(f"{param.name} is of kind '{param.kind}', which is not known")
        elif not param.optional and param.kind not in REFERENCES:
            found = declaration.normal({param.name: param.default})[param.name]
            told = [m for _, m in param.inner(found) if not m.endswith(UNNAMED)]
            out += [f"its default of {param.name} is refused: {message}" for message in told]
    for name in (*declaration.mirror, *(name for pair in declaration.mirror_swaps for name in pair)):
        if name not in params:
            out.append(f"its mirror names '{name}', which is no value of it")
    return out
