"""Writes the channel reference from the declarations: python -m estampa.reference docs/channels.md"""

import sys
from pathlib import Path

from .formula import FUNCTIONS, NAMES
from .kinds.channels import Channel
from .kinds.registry import kinds_in
from .units import format_value

FAMILIES = {"layer": "Layers", "force": "Forces", "ensemble": "Ensembles", "print": "Prints", "thing": "Things"}


def reference() -> str:
    lines = [
        "# Channels",
        "",
        "Made from the declarations by `python -m estampa.reference docs/channels.md`; do not edit it by hand.",
        "What stands in `this type` is what scripts write: of a choice its words.",
        "",
    ]
    for family, title in FAMILIES.items():
        lines += [f"## {title}", ""]
        for kind in sorted(kinds_in(family), key=lambda k: k.title):
            lines += [f"### {kind.title} (`{kind.kind}`)", "", " ".join((kind.__doc__ or "").split()), ""]
            if kind.channels:
                lines += ["| channel | name | default | soft range | help |", "| --- | --- | --- | --- | --- |"]
                lines += [
                    f"| {c.label} | `{c.name}` | {_default(c)} | {_range(c)} | {c.help} |"
                    for c in kind.channels.values()
                ]
                lines.append("")
            if kind.presets:
                lines += ["Presets: " + "; ".join(kind.presets) + ".", ""]
    return "\n".join([*lines, *_formulas()])


def _formulas() -> list[str]:
    head = "A formula speaks the units that are shown; sin and cos take radians. Besides + - * / % ** and comparisons,"
    lines = ["## Formulas", "", f"{head} `a if b else c`:", "", "| name | what it is |", "| --- | --- |"]
    lines += [f"| `{name}` | {words} |" for name, words in NAMES.items()]
    lines += [f"| `{name}()` | {words} |" for name, (_, _, _, words) in FUNCTIONS.items()]
    return [*lines, ""]


def _default(c: Channel) -> str:
    if c.type in ("number", "whole"):
        return format_value(c.default, c.unit)
    if c.type == "choice":
        shown = lambda word, words: f"**{words}**" if word == c.default else words
        return "; ".join(f"{shown(*choice)} `{choice[0]}`" for choice in c.choices)
    return {True: "on", False: "off", None: "none", "": "empty"}.get(c.default, str(c.default))


def _range(c: Channel) -> str:
    return " to ".join(format_value(v, c.unit) for v in c.soft) if c.type in ("number", "whole") else ""


def main(arguments: list[str]) -> int:
    path = Path(arguments[-1])
    if "--check" in arguments:
        if path.read_text() != reference():
            print(f"{path} is out of date: run python -m estampa.reference {path}", file=sys.stderr)
            return 1
        return 0
    path.write_text(reference())
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
