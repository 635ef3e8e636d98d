"""The language of rules as a page, made from the declarations: what may be said, how it reads, and what it means."""

from __future__ import annotations

from collections.abc import Iterable

from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import load
from strell_core.strategy import catalogue

HEAD = """# The language of rules

Made from the declarations by `./strell types`; a test says when it is not current. How rules are decided stands in
[engine-semantics.md](engine-semantics.md).

A strategy is a document of sentences: each entry has its own *when*, *conditions*, *legs*, *checks* and *size* (and may have
its own *leave* and *adjust*); *leave*, *adjust*, *limits* and *orders* hold for all. In a file every sentence is a mapping with its
`rule` and its values; what is left out is at its default. A leg has a `strike` and an `expiry`, each a mapping with `pick`.

A **value** is a number, or a mapping with `measure` and the measure's parameters, some of which may be values again:
`{measure: scaled, of: {measure: expected_move, unit: points}, times: 0.5}`. A **condition** compares two values
(`left`, `is`, `right`). What is unvalued never acts; what does not exist (a leg that is gone) makes its condition false.
To a condition may be added: `looks`, for how many snapshots in a row it has to hold; `also`, further conditions, each with its
own `left`, `is`, `right` and `looks`, all joined by `join: and` or `join: or`; and `until`, a condition that ends it: from the
snapshot on which all of it holds it counts as true until that one is true, whatever becomes of it meanwhile. Of values of a
position and its legs that is counted from its first fill on, of values of the account from the first snapshot of a run; of contracts that
were only picked nothing is known from before. Sentences of an entry must all be true, exits act each by itself, so that *and* within
*or* is several exits, and *or* within *and* several conditions.
"""
SCOPES = {
    "market": "Of a market (each takes `underlying`, another one of the strategy's)", "event": "Of what is announced", "series": "Of series of one's own", "clock": "Of the clock and the calendar",
    "leg": "Of a leg, picked or held", "structure": "Of what was picked together (checks)", "adjustment": "Of an adjustment (what is provided, until what is rolled)", "position": "Of a position (exits, adjustments)",
    "account": "Of the account (entries, checks)", "combined": "Made of other values",
}  # fmt: skip


def handbook() -> str:
    """The whole page, as Markdown."""
    out = [HEAD]
    for section, (title, parts) in catalogue.SECTIONS.items():
        out.append(f"## {title}\n")
        for part in parts:
            found = catalogue.sentences(part)
            if found:
                out.append(f"### In `{part}`\n\n{_listed(found.values())}")
        if section == "legs":
            for name, words in (("strike", "Strikes"), ("expiry", "Expirations")):
                out.append(f"### {words} (`{name}`)\n\n{_listed(catalogue.picks(name).values())}")
    out.append("## Measures\n")
    for scope, words in SCOPES.items():
        measured = [m.declaration for m in load().all() if m.declaration.scope == scope]
        out.append(f"### {words}\n\n{_listed(sorted(measured, key=lambda declaration: declaration.title))}")
    return "\n".join(out)


def _listed(declarations: Iterable[Declaration]) -> str:
    return "".join(_entry(declaration) for declaration in declarations)


def _entry(declaration: Declaration) -> str:
    params = ", ".join(f"`{param.name}`" for param in declaration.params)
    more = f" Values: {params}." if params else ""
    warm = f" {declaration.warm_up[0].upper()}{declaration.warm_up[1:]}." if declaration.warm_up else ""
    return f"- **`{declaration.id}`** — *{declaration.example}* {declaration.explains}{warm}{more}\n"
