"""Habits that a machine can look at: words that stay out, types, sizes, cycles. `python -m tests.habits [words types]`.

`words` -- names in code that the glossary (docs/glossary.md) replaced do not come back
`types` -- mypy finds nothing in the packages that are typed throughout, and no more than was counted in the others
`sizes` -- no function over 100 lines, no file over 600, no cycle of packages, few places that ask which kind a thing is
"""

import ast
import io
import re
import subprocess
import sys
import tokenize
from collections import defaultdict
from pathlib import Path

HOME = Path(__file__).parent.parent
SOURCE = HOME / "src" / "estampa"
LONGEST_FUNCTION, LONGEST_FILE, MOST_TESTS_OF_KIND = 100, 600, 80
TYPED = ("kinds", "owners", "store", "fields")
KIND = re.compile(r"\.kind (==|!=|in|not in) |has_grains|\bis owner\b")
COUNTED = HOME / "tests" / "types.txt"


def banned() -> dict[str, str]:
    """word -> what stands for it now, from the table of the glossary."""
    rows = re.findall(r"^\| `(\w+)` \| `([\w.]+)`", (HOME / "docs" / "glossary.md").read_text(), re.MULTILINE)
    return dict(rows)


def words() -> list[str]:
    """Where a banned word stands as a name."""
    found, names = [], banned()
    for path in sorted(SOURCE.rglob("*.py")):
        for token in tokenize.generate_tokens(io.StringIO(path.read_text()).readline):
            if token.type == tokenize.NAME and token.string in names:
                where = f"{path.relative_to(HOME)}:{token.start[0]}"
                found.append(f"{where}: “{token.string}” is “{names[token.string]}” now")
    return found


def sizes() -> list[str]:
    """Functions and files that are too long, packages that import one another, tests of kind outside their rooms."""
    found, edges, asked = [], defaultdict(set), 0
    for path in sorted(SOURCE.rglob("*.py")):
        text, where = path.read_text(), path.relative_to(HOME)
        if text.count("\n") > LONGEST_FILE:
            found.append(f"{where} has more than {LONGEST_FILE} lines")
        rooms = path.relative_to(SOURCE).parts
        if rooms[0] not in ("kinds", "owners") and rooms[:2] != ("app", "facets"):
            asked += sum(bool(KIND.search(line)) and "dtype" not in line for line in text.splitlines())
        tree = ast.parse(text)
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef) and node.end_lineno - node.lineno >= LONGEST_FUNCTION:
                found.append(f"{where}: {node.name} has more than {LONGEST_FUNCTION} lines")
        for node in tree.body:
            if isinstance(node, ast.ImportFrom) and node.level:
                up = rooms[: len(rooms) - node.level]
                other = (*up, *(node.module or node.names[0].name).split("."))[0]
                if other != rooms[0] and len(rooms) > 1:
                    edges[rooms[0]].add(other)
    if asked > MOST_TESTS_OF_KIND:
        found.append(f"{asked} places ask which kind a thing is; {MOST_TESTS_OF_KIND} are the most")
    return found + [f"packages import one another: {ring}" for ring in rings(edges)]


def rings(edges: dict[str, set[str]]) -> list[str]:
    from graphlib import CycleError, TopologicalSorter

    try:
        TopologicalSorter(edges).prepare()
    except CycleError as err:
        return [" → ".join(reversed(err.args[1]))]
    return []


def types() -> list[str]:
    """What mypy finds: nothing in what is typed throughout; elsewhere no more than was counted."""
    run = [sys.executable, "-m", "mypy", str(SOURCE)]
    said = subprocess.run(run, capture_output=True, text=True, cwd=HOME, check=False).stdout
    lines = re.findall(r"^src/estampa/(.+?):(\d+): error: (.*)", said, re.MULTILINE)
    typed = lambda path: path.split("/")[0] in TYPED
    found = [f"src/estampa/{path}:{line}: {what}" for path, line, what in lines if typed(path)]
    rest, most = len(lines) - len(found), int(COUNTED.read_text())
    if rest > most:
        found.append(f"mypy finds {rest} in the packages that are not typed throughout; there were {most}")
    return found


if __name__ == "__main__":
    wanted = sys.argv[1:] or ("words", "sizes", "types")
    found = [line for name in wanted for line in globals()[name]()]
    print("\n".join(found) or "nothing")
    sys.exit(bool(found))
