"""Seed small wrong edits over all rooms, one at a time, and see which of them the tests notice.

Usage: python tools/mutate.py [--count 60] [--seed 1] [--seconds 3600] [--room ROOM ...]; needs the test dependencies,
pytest-cov and pytest-xdist. Not part of the checks of a change: a run takes an hour. Each edit is made in a copy of the
project. One run of all tests beforehand tells which of them walk over which line: these are tried on an edit. Where
none does (kernels are compiled, commands are processes of their own), and where a file is read at import, the tests of
the room run, and if these pass all of them. A survivor is an edit that no test noticed; a run that hangs is one too.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from coverage import CoverageData

ROOT = Path(__file__).resolve().parents[1]
SOURCE = Path("src/unhurried_heron")
TESTS = {
    "formulas": ["tests/formulas", "tests/native", "tests/model"],
    "words": ["tests/words", "tests/files"],
    "units": ["tests/units"],
    "model": ["tests/model", "tests/problem"],
    "problem": ["tests/problem", "tests/units", "tests/files"],
    "native": ["tests/native", "tests/model/test_indexed.py"],
    "kernels": ["tests/kernels", "tests/march", "tests/test_contract.py"],
    "march": ["tests/march", "tests/cli"],
    "families": ["tests/families", "tests/test_contract.py"],
    "methods": ["tests/methods", "tests/test_contract.py"],
    "run": ["tests/run", "tests/show", "tests/problem/test_kept_whole.py"],
    "study": ["tests/study", "tests/show"],
    "show": ["tests/show", "tests/cli"],
    "files": ["tests/files", "tests/run", "tests/cli"],
    "cli": ["tests/cli"],
}
SWAPS: dict[type[ast.AST], tuple[str, ...]] = {
    ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "/"), ast.Div: ("/", "*"),
    ast.Lt: ("<", "<=", ">"), ast.LtE: ("<=", "<", ">"), ast.Gt: (">", ">=", "<"), ast.GtE: (">=", ">", "<"),
    ast.Eq: ("==", "!="), ast.NotEq: ("!=", "=="), ast.And: ("and", "or"), ast.Or: ("or", "and"),
}  # fmt: skip
QUOTES = {"repr", "str"}
SHAPES = {"repr", "pretty_exceptions_enable"}
SECONDS_A_RUN = 900
PROCESSES = "2"


def _only_shape(node: ast.AST, *, style: bool) -> Iterator[ast.AST]:
    """Parts whose numbers shape words and pictures only: how long a quotation is, how thick a line."""
    if isinstance(node, ast.JoinedStr):
        yield node
    if isinstance(node, ast.Subscript) and isinstance(node.value, ast.Call) and ast.unparse(node.value.func) in QUOTES:
        yield node.slice
    if isinstance(node, ast.keyword) and (style or node.arg in SHAPES):
        yield node.value


def edits(text: str, *, style: bool = False) -> Iterator[tuple[int, int, str]]:
    """Every small edit of a file: from, to (in characters), and what stands there instead.

    ``style``: the file draws, so that keywords with numbers are taste.
    """
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))

    def place(line: int, column: int) -> int:
        return len(text.encode()[: starts[line - 1] + column].decode())

    tree = ast.parse(text)
    shape = {inner for node in ast.walk(tree) for part in _only_shape(node, style=style) for inner in ast.walk(part)}
    for node in ast.walk(tree):
        operator = getattr(node, "op", None) or (getattr(node, "ops", None) or [None])[0]
        if type(operator) in SWAPS and isinstance(node, ast.BinOp | ast.Compare | ast.BoolOp | ast.AugAssign):
            left = node.target if isinstance(node, ast.AugAssign) else getattr(node, "left", None) or node.values[0]
            old, *others = SWAPS[type(operator)]
            begin = place(left.end_lineno, left.end_col_offset)
            found = text.find(old, begin)
            if found >= 0 and found - begin < 40 and "\n" not in text[begin:found]:
                yield from ((found, found + len(old), new) for new in others)
        if (
            isinstance(node, ast.Constant)
            and node not in shape
            and type(node.value) in (int, float, bool)
            and node.end_lineno == node.lineno
        ):
            begin, end = place(node.lineno, node.col_offset), place(node.end_lineno, node.end_col_offset)
            changed = not node.value if isinstance(node.value, bool) else node.value * 2 + 1
            yield begin, end, repr(changed)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            begin = place(node.lineno, node.col_offset)
            yield begin, begin + 4, ""


def walked(copy: Path) -> dict[str, dict[int, list[str]]]:
    """Return by file and line the tests that walk over it."""
    if passes(copy, ["tests", f"--cov={copy / SOURCE}", "--cov-context=test", "--cov-report="]) != "passed":
        sys.exit("the tests do not pass as they are")
    data = CoverageData(str(copy / ".coverage"))
    data.read()
    found: dict[str, dict[int, list[str]]] = {}
    for file in data.measured_files():
        lines = data.contexts_by_lineno(file)
        tests = {line: sorted({each.split("|")[0] for each in contexts if each}) for line, contexts in lines.items()}
        found[str(Path(file).relative_to(copy))] = {line: each for line, each in tests.items() if each}
    return found


def passes(copy: Path, tests: list[str]) -> str:
    """Run tests on a copy: "passed", "failed" or "hung"."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "UNHURRIED_HERON_CACHE": str(copy / "cache")}
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-x",
        "-q",
        "-p",
        "no:cacheprovider",
        "--timeout",
        "120",
        "-n",
        PROCESSES,
        *tests,
    ]
    try:
        done = subprocess.run(command, cwd=copy, env=environment, capture_output=True, timeout=SECONDS_A_RUN)
    except subprocess.TimeoutExpired:
        return "hung"
    return "passed" if done.returncode == 0 else "failed"


def outcome_of(copy: Path, path: Path, line: int, tests: dict[int, list[str]]) -> str:
    """Run what may notice an edit of a line."""
    room = path.relative_to(copy / SOURCE).parts[0]
    near = tests.get(line, [])
    if near:
        # a few at once do for what is noticed everywhere
        first = passes(copy, near[:: max(1, len(near) // 20)])
        outcome = passes(copy, near) if first == "passed" and len(near) > 20 else first
        # commands and examples are processes of their own
        return passes(copy, ["tests/test_house.py", "tests/cli"]) if outcome == "passed" else outcome
    outcome = passes(copy, TESTS[room])
    return passes(copy, ["tests", *(f"--ignore={done}" for done in TESTS[room])]) if outcome == "passed" else outcome


def main() -> None:
    """Seed the edits and print what became of each."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--seconds", type=float, default=3600.0)
    parser.add_argument("--room", action="append", choices=list(TESTS))
    arguments = parser.parse_args()
    dice, begun = random.Random(arguments.seed), time.monotonic()
    rooms = arguments.room or list(TESTS)
    counts = {"failed": 0, "passed": 0, "hung": 0}
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "copy"
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", "build", "*.egg-info", ".venv"))
        tests = walked(copy)
        print(f"{sum(map(len, tests.values()))} lines are walked over by tests", flush=True)
        for number in range(arguments.count):
            if time.monotonic() - begun > arguments.seconds:
                break
            room = rooms[number % len(rooms)]
            path = dice.choice(sorted((copy / SOURCE / room).rglob("*.py")))
            text = path.read_text(encoding="utf-8")
            found = sorted(set(edits(text, style=room == "show")))
            if not found:
                continue
            begin, end, new = dice.choice(found)
            line = text.count("\n", 0, begin) + 1
            path.write_text(text[:begin] + new + text[end:], encoding="utf-8")
            outcome = outcome_of(copy, path, line, tests.get(str(path.relative_to(copy)), {}))
            path.write_text(text, encoding="utf-8")
            counts[outcome] += 1
            told = "noticed " if outcome == "failed" else "SURVIVED"
            where = f"{path.relative_to(copy / SOURCE)}:{line}"
            print(f"{told} {where}: {text[begin:end]} -> {new or 'nothing'}: {text.splitlines()[line - 1].strip()}")
            sys.stdout.flush()
    print(f"{counts['failed']} noticed, {counts['passed']} survived, {counts['hung']} hung")


if __name__ == "__main__":
    main()
