"""Seed small wrong edits over all rooms and see which of them the tests notice.

Usage: python tools/mutate.py [--count 60] [--seed 1] [--seconds 3600] [--room ROOM ...] [--every] [--quick] [--sample]
[--again LOG]; needs the test dependencies, pytest-cov and pytest-xdist. Not part of the checks of a change: a run takes
an hour. Each edit is made in a copy of the project. One run of all tests beforehand tells which of them walk over which
line, in processes that they begin, too, and how long they take: these are tried on an edit, the shortest first, then
those that walk over its file, and the tests of its room.
Where a line is compiled, all are. Before the first edit a test must pass without one. A
survivor is an edit that no test noticed; one is untried where pytest found none of its tests. ``--quick`` ends with the
first tests, and tells edits that *may* survive; ``--sample`` takes the tests alone that `pytest` does; ``--again``
seeds the survivors of an earlier run once more, by the text of their line; ``--every`` draws nothing and tries all
edits of the rooms.

Only edits that are wrong are seeded (``wrong_edits.py``). Those that were read and found to change no answer are named
in ``harmless.txt``, each with its reason, and left out.
"""

from __future__ import annotations

import argparse
import ast
import importlib
import itertools
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import xml.etree.ElementTree as ElementTree
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from coverage import CoverageData
from wrong_edits import Edit, edits

ROOT = Path(__file__).resolve().parents[1]
SOURCE = Path("src/unhurried_heron")
# all rooms but those that are data, or tests themselves
ROOMS = sorted(
    path.parent.name for path in (ROOT / SOURCE).glob("*/__init__.py") if path.parent.name not in {"demo", "testing"}
)
COMPILED = ["tests/kernels", "tests/driver", "tests/test_contract.py", "tests/families"]
HARMLESS = Path(__file__).with_name("harmless.txt")
HOUSE = "tests/test_house.py::test_records_cannot_be_changed"
FOLLOW = """
import os
if "PYTEST_CURRENT_TEST" in os.environ:
    import coverage
    coverage.process_startup()
"""
SETTINGS = """
[run]
parallel = True
data_file = {data}
source = {source}
context = ${{PYTEST_CURRENT_TEST}}
"""
PROCESSES = 2
# what pytest ends with where a test failed, and where it found none
SOME_FAILED = 1
NO_TESTS = 5
SECONDS_A_RUN = 1200.0
_CONTEXT = re.compile(r"\|\w+$|\s\(\w+\)$")
AHEAD = ["numba", "scipy.sparse.linalg", "scipy.optimize", "pandas", "matplotlib.pyplot", "typer", "rich", "pytest"]


def _in_function(text: str, line: int) -> bool:
    functions = (node for node in ast.walk(ast.parse(text)) if isinstance(node, ast.FunctionDef))
    return any(node.body[0].lineno <= line <= (node.end_lineno or 0) for node in functions)


@dataclass
class Walked:
    """Which tests, by their number, walk over which line of which file, their names, and how long each takes."""

    tests: dict[str, dict[int, list[int]]]
    names: list[str]
    seconds: dict[str, float]

    def near(self, edit: Edit, line: int, text: str) -> list[str]:
        """Return what may notice an edit of a line, the shortest first."""
        walk = self.tests.get(edit.file, {})
        # what is read at import is walked over by the test that happens to import it, and by a test of the whole house
        tests = walk.get(line) if _in_function(text, line) else None
        near = [HOUSE, *(self.names[test] for test in tests or sorted({*itertools.chain(*walk.values())}))]
        near = [test for test in near if test in self.seconds]
        if edit.file.startswith("kernels/"):
            near = [test for test in self.seconds if test.startswith(tuple(COMPILED))]
        return sorted(near or self.seconds, key=lambda test: self.seconds.get(test, 0.0))

    def in_two(self, edit: Edit, text: str, most: float) -> tuple[list[str], list[str]]:
        """Return those of them that take so many seconds together, and all others that may notice it."""
        total, near = 0.0, self.near(edit, edit.line(text), text)
        for count, test in enumerate(near):
            total += self.seconds.get(test, 0.0)
            if total > most and count:
                return near[:count], near[count:]
        # what is found once in a process is walked over by the first test alone that asks for it
        inside = itertools.chain(*self.tests.get(edit.file, {}).values())
        others = self.seconds if edit.file.startswith("kernels/") else {self.names[test] for test in inside}
        # and what is read at import is held by tests of the room that walk over no line of it
        room = f"tests/{edit.file.partition('/')[0]}/"
        found = [test for test in self.seconds if test in others or test.startswith(room)]
        return near, [test for test in found if test not in near]


def walked(copy: Path, *, whole: bool) -> Walked:
    """Run all tests once, under coverage, or the sample of them."""
    report = copy.parent / "report.xml"
    seen = [f"--cov={copy / SOURCE}", "--cov-context=test", "--cov-report=", f"--junitxml={report}"]
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-n", str(PROCESSES)]
    command += [*seen, *(["--whole"] if whole else [])]
    # beside the copy: tests look at what is left in it
    kept = copy.parent / "coverage"
    hook, settings = kept / "hook", kept / "follow.ini"
    hook.mkdir(parents=True)
    (hook / "sitecustomize.py").write_text(FOLLOW)
    settings.write_text(SETTINGS.format(data=kept / "followed", source=copy / SOURCE))
    around = {**os.environ, **_surroundings(copy), "COVERAGE_PROCESS_START": str(settings)}
    around["COVERAGE_FILE"] = str(kept / ".coverage")
    around["PYTHONPATH"] += os.pathsep + str(hook)
    if subprocess.run(command, cwd=copy, env=around).returncode not in (0, SOME_FAILED):
        sys.exit("the tests do not run as they are")
    seconds, failed = dict[str, float](), []
    for case in ElementTree.parse(report).iter("testcase"):
        test = f"{(case.get('classname') or '').replace('.', '/')}.py::{case.get('name')}"
        if case.find("failure") is None and case.find("error") is None:
            seconds[test] = float(case.get("time") or 0.0)
        else:
            failed.append(test)
    if failed:
        print("left out, as they fail without an edit:", *failed, sep="\n  ")
    found: dict[str, dict[int, set[int]]] = {}
    numbers: dict[str, int] = {}
    for path in [kept / ".coverage", *kept.glob("followed*")]:
        data = CoverageData(str(path))
        data.read()
        for file in data.measured_files():
            lines = found.setdefault(str(Path(file).relative_to(copy / SOURCE)), {})
            for line, contexts in data.contexts_by_lineno(file).items():
                # "test|run" from the tests' own process, "test (call)" from one that they began
                names = [_CONTEXT.sub("", each) for each in contexts if each]
                lines.setdefault(line, set()).update(numbers.setdefault(name, len(numbers)) for name in names)
    tests = {file: {line: sorted(each) for line, each in lines.items() if each} for file, lines in found.items()}
    return Walked(tests, list(numbers), seconds)


def _surroundings(copy: Path) -> dict[str, str]:
    return {
        "PYTHONPATH": str(copy / "src"),
        "UNHURRIED_HERON_CACHE": str(copy.parent / "cache"),
        "PYTHONDONTWRITEBYTECODE": "1",
    }


class _Only:
    """Runs the tests of these names, in their order: some names are none that pytest could be called with."""

    def __init__(self, tests: list[str]) -> None:
        self.order = {test: number for number, test in enumerate(tests)}

    def pytest_collection_modifyitems(self, items: list[Any]) -> None:
        items[:] = sorted((i for i in items if i.nodeid in self.order), key=lambda item: self.order[item.nodeid])


class Worker:
    """A copy of the project in which one edit is tried at a time, in a process forked with the libraries loaded."""

    def __init__(self, folder: Path, number: int) -> None:
        self.copy = folder / f"copy{number}"
        self.process, self.begun = 0, 0.0
        self.edit: Edit | None = None
        self.text, self.rest = "", [""]
        shutil.copytree(ROOT, self.copy, ignore=shutil.ignore_patterns(".git", "build", "*.egg-info", ".venv"))

    def seed(self, edit: Edit, tests: list[str], rest: list[str]) -> None:
        """Make the edit and begin its first tests; ``rest``: what is tried where these pass."""
        path = self.copy / SOURCE / edit.file
        self.text, self.edit, self.rest = path.read_text(encoding="utf-8"), edit, rest
        path.write_text(self.text[: edit.begin] + edit.new + self.text[edit.end :], encoding="utf-8")
        self._begin(tests)

    def _begin(self, tests: list[str]) -> None:
        self.begun = time.monotonic()
        self.process = os.fork()
        if self.process:
            return
        code = 3
        try:
            os.setsid()
            os.chdir(self.copy)
            quiet = os.open(self.copy.parent / f"{self.copy.name}.log", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(quiet, 1)
            os.dup2(quiet, 2)
            os.environ.update(_surroundings(self.copy))
            sys.dont_write_bytecode = True
            sys.path[:] = [str(self.copy / "src"), str(self.copy), *sys.path[1:]]
            pytest = importlib.import_module("pytest")
            options = ["-x", "-q", "-p", "no:cacheprovider", "-p", "no:xdist", "-p", "no:cov", "--timeout", "120"]
            # one process for each edit
            options += ["-o", "addopts="]
            files = sorted({test.split("::")[0] for test in tests})
            code = int(pytest.main([*options, *files], plugins=[_Only(tests)]))
        finally:
            os._exit(code)

    def outcome(self) -> str | None:
        """Return "noticed", "passed", "hung" or "untried"; None while it runs. The edit is taken back."""
        done, status = os.waitpid(self.process, os.WNOHANG)
        if not done and time.monotonic() - self.begun < SECONDS_A_RUN:
            return None
        if not done:
            os.killpg(self.process, signal.SIGKILL)
            os.waitpid(self.process, 0)
        assert self.edit is not None
        (self.copy / SOURCE / self.edit.file).write_text(self.text, encoding="utf-8")
        self.process = 0
        code = os.waitstatus_to_exitcode(status) if done else 0
        if code == NO_TESTS:
            return "untried"
        return "hung" if not done else "passed" if code == 0 else "noticed"


def chosen(arguments: argparse.Namespace) -> list[Edit]:
    """Draw the edits: the rooms in turn, a file and an edit of it by chance; or those of an earlier run."""
    every = {
        room: {
            str(path.relative_to(ROOT / SOURCE)): sorted(set(edits(path.read_text("utf-8"), style=room == "figures")))
            for path in sorted((ROOT / SOURCE / room).rglob("*.py"))
        }
        for room in arguments.room or ROOMS
    }
    if arguments.again:
        wanted = set(re.findall(r"^(?:SURVIVED|HUNG +|perhaps ) \S+?:\d+: (.*)$", arguments.again.read_text(), re.M))
        each = (Edit(file, *edit) for files in every.values() for file, found in files.items() for edit in found)
        return [
            edit
            for edit in each
            if edit.report((ROOT / SOURCE / edit.file).read_text("utf-8")).split(": ", 1)[1] in wanted
        ]
    known = set(re.findall(r"^(\S+: .*)$", HARMLESS.read_text("utf-8"), re.M))
    for file, found in ((file, found) for files in every.values() for file, found in files.items()):
        text = (ROOT / SOURCE / file).read_text("utf-8")
        found[:] = [edit for edit in found if Edit(file, *edit).named(text) not in known]
    dice, drawn = random.Random(arguments.seed), []
    if arguments.every:
        drawn = [Edit(file, *edit) for files in every.values() for file, found in files.items() for edit in found]
        dice.shuffle(drawn)
        return drawn
    files = {room: [file for file, found in each.items() if found] for room, each in every.items()}
    rooms = [room for room, each in files.items() if each]
    for number in range(arguments.count):
        room = rooms[number % len(rooms)]
        file = dice.choice(files[room])
        drawn.append(Edit(file, *dice.choice(every[room][file])))
    return list(dict.fromkeys(drawn))


def try_all(drawn: list[Edit], walks: Walked, workers: list[Worker], arguments: argparse.Namespace) -> dict[str, int]:
    """Try the edits, several at a time, and print what became of each."""
    begun, counts = time.monotonic(), {"noticed ": 0, "SURVIVED": 0, "HUNG    ": 0, "perhaps ": 0, "UNTRIED ": 0}
    left = list(reversed(drawn))
    while left or any(worker.process for worker in workers):
        if time.monotonic() - begun > arguments.seconds:
            left.clear()
        for worker in workers:
            outcome = worker.outcome() if worker.process else "idle"
            if outcome == "passed" and worker.rest and worker.edit and not arguments.quick:
                worker.seed(worker.edit, worker.rest, [])
                continue
            if outcome in ("noticed", "passed", "hung", "untried") and worker.edit:
                passed = "perhaps " if arguments.quick else "SURVIVED"
                message = {"noticed": "noticed ", "passed": passed, "hung": "HUNG    ", "untried": "UNTRIED "}[outcome]
                counts[message] += 1
                print(message, worker.edit.report(worker.text), flush=True)
            if outcome and left:
                edit = left.pop()
                text = (worker.copy / SOURCE / edit.file).read_text("utf-8")
                worker.seed(edit, *walks.in_two(edit, text, arguments.first))
        time.sleep(0.02)
    return counts


def main() -> None:
    """Seed the edits and print what became of each."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--seconds", type=float, default=3600.0)
    parser.add_argument("--room", action="append", choices=ROOMS)
    parser.add_argument("--first", type=float, default=60.0, help="seconds of tests that are tried first")
    parser.add_argument("--every", action="store_true")
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--again", type=Path)
    parser.add_argument("--sample", action="store_true", help="of the tests, those that pytest runs alone")
    parser.add_argument("--walked", type=Path, help="keep here what the first run found, or read it")
    arguments = parser.parse_args()
    drawn = chosen(arguments)
    with tempfile.TemporaryDirectory() as name:
        *workers, first = (Worker(Path(name), number) for number in range(PROCESSES + 1))
        if arguments.walked and arguments.walked.exists():
            kept = json.loads(arguments.walked.read_text())
            tests = {file: {int(line): each for line, each in lines.items()} for file, lines in kept["tests"].items()}
            walks = Walked(tests, kept["names"], kept["seconds"])
        else:
            walks = walked(first.copy, whole=not arguments.sample)
            if arguments.walked:
                arguments.walked.write_text(json.dumps(vars(walks)))
        print(f"{sum(map(len, walks.tests.values()))} lines are walked over by tests", flush=True)
        for module in AHEAD:
            importlib.import_module(module)
        nothing = Edit(drawn[0].file, 0, 0, "")
        workers[0].seed(nothing, [HOUSE], [])
        while not (outcome := workers[0].outcome()):
            time.sleep(0.1)
        if outcome != "passed":
            sys.exit("where nothing is changed, a test is not passed")
        counts = try_all(drawn, walks, workers, arguments)
    print(", ".join(f"{number} {message.strip().lower()}" for message, number in counts.items() if number))


if __name__ == "__main__":
    main()
