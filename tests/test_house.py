"""The house: light import, layout, kernels kept on disk, examples that run."""

from __future__ import annotations

import ast
import dataclasses
import doctest
import importlib
import os
import re
import shutil
import stat
import subprocess
import sys
from pathlib import Path

import pytest
from forked import script

from unhurried_heron.demo import demo_file
from unhurried_heron.kernels.machine_code import drafts
from unhurried_heron.kernels.machine_code.drafts import read_draft
from unhurried_heron.kernels.machine_code.loading import _path_of, cache_folder
from unhurried_heron.kernels.machine_code.prepare import KERNELS, load_kernels

ROOT = Path(__file__).parents[1]
LAYOUT = ROOT / "tools" / "check_layout.py"


def python(*arguments: object, **environment: str) -> subprocess.CompletedProcess:
    command = [sys.executable, *map(str, arguments)]
    return subprocess.run(
        command, capture_output=True, text=True, env={**os.environ, **environment}, timeout=300, check=False
    )


@pytest.mark.long
def test_importing_is_light() -> None:
    done = python("-X", "importtime", "-c", "import unhurried_heron")
    loaded = {line.rsplit("|", 1)[-1].strip().partition(".")[0] for line in done.stderr.splitlines()}
    assert "numpy" in loaded
    heavy = {"matplotlib", "pandas", "sympy", "numba", "llvmlite", "scipy", "pydantic", "pint", "tomli_w"}
    assert not loaded & heavy


@pytest.mark.long
def test_a_run_loads_only_what_it_needs(tmp_path: Path) -> None:
    plain = tmp_path / "plain.toml"
    plain.write_text('equations = "x\' = -x"\ninterval = {from = 0, to = 1}\ninitial = {x = 1}\n')
    run = "import sys; from unhurried_heron.cli.app import main; sys.argv = ['heron', 'run', {!r}]; main()"
    for file, wanted in ((plain, set()), (demo_file("culvert"), {"pint"})):
        done = python("-X", "importtime", "-c", run.format(str(file)))
        loaded = {line.rsplit("|", 1)[-1].strip().partition(".")[0] for line in done.stderr.splitlines()}
        assert "pydantic" in loaded, done.stderr[-500:]
        # units need their library (which brings SciPy with it); nothing else does
        assert loaded & {"matplotlib", "sympy", "pint", "tomli_w"} == wanted
        assert wanted or "scipy" not in loaded


def test_records_cannot_be_changed() -> None:
    # these gather while they work; all others are handed about
    growing = {"March", "ClassifiedEquations", "ErrorCollector", "Tracer"}
    package = ROOT / "src" / "unhurried_heron"
    for path in package.rglob("*/*.py"):
        module = importlib.import_module(".".join(path.relative_to(package.parent).with_suffix("").parts))
        for name, each in vars(module).items():
            if dataclasses.is_dataclass(each) and each.__module__ == module.__name__ and name not in growing:
                assert each.__dataclass_params__.frozen, name


# that this checkout passes the checks of layout, words and docstrings is a part of `.ci/run`
def test_layout_check_can_fail(tmp_path: Path) -> None:
    copy = tmp_path / "unhurried_heron"
    for room in ("run", "kernels", "study"):
        (copy / room).mkdir(parents=True)
    (copy / "run" / "ending.py").write_text("from unhurried_heron.show import figures\n")
    (copy / "kernels" / "long.py").write_text(
        "import pandas\n@entry\ndef f(a, b, c, d, e, g, h, i, j): pass\n_MANY = 3\n_A, _B = 1, 2\n" + "x = 1\n" * 400
    )
    (copy / "study" / "attempts.py").write_text(
        "import undeclared\nfrom rich.text import Text\ndef f(run): return f'The run {run._ledger} was of no use.'\n"
    )
    (copy / "utils").mkdir()
    (copy / "utils" / "__init__.py").write_text("")
    done = python(LAYOUT, copy)
    assert done.returncode == 1
    for words in (
        "run/ending.py: imports show",
        "9 arguments",
        "lines",
        "'utils'",
        "pandas",
        "_MANY: no",
        "(_A, _B): each",
        "imports a terminal library",
        "imports undeclared, which is not among",
        "a sentence, 'The run  was of no use.'",
        "the private field run._ledger",
    ):
        assert words in done.stdout, words


def test_docstrings_tell_what_functions_take_return_and_raise(tmp_path: Path) -> None:
    check = ROOT / "tools" / "check_docstrings.py"
    package = tmp_path / "unhurried_heron"
    package.mkdir()
    (package / "__init__.py").write_text('__all__ = ["public"]\n')
    (package / "room.py").write_text(
        'def public(a):\n    """Do it."""\n'
        "def f(a, b, c):\n    return a\n"
        'def g(a, b, c):\n    """Do it.\n\n    Parameters\n    ----------\n    a, b : int\n    d : int\n    """\n'
        "    if a:\n        raise ValueError\n    return b\n"
    )
    done = python(check, package)
    assert done.returncode == 1
    assert done.stdout.splitlines() == [
        "room.py: public does not describe a",
        "room.py: f has no docstring",
        "room.py: g does not describe c",
        "room.py: g describes d, which it does not take",
        "room.py: g does not say what it returns",
        "room.py: g does not say what it raises",
    ]


WORDS = [
    ("src/unhurried_heron/run/ending.py", "class Tally", "class Beyond", "'Beyond' is retired"),
    ("src/unhurried_heron/driver/integrate.py", "    starter: str |", "    starting: str |", "option 'starting'"),
    ("docs/names.md", "uh.Budget", "uh.Allowance", "'Budget' is public and on no page"),
    ("docs/api.md", "::: unhurried_heron.Tally", "", "'Tally' is public and without an example"),
    ("docs/ask.md", "heron step-table", "heron", "'heron step-table' is on no page"),
]


def test_retired_words_and_names_without_a_page_are_found(tmp_path: Path) -> None:
    package = "src/unhurried_heron"
    for part in (f"{package}/cli", f"{package}/driver", f"{package}/run", "docs"):
        shutil.copytree(ROOT / part, tmp_path / part, ignore=shutil.ignore_patterns("__pycache__", "*.png"))
    for file in ("README.md", f"{package}/__init__.py"):
        shutil.copy(ROOT / file, tmp_path / file)
    for file, old, new, _ in WORDS:
        for path in [tmp_path / file, *([*tmp_path.rglob("*.md")] if file.startswith("docs") else [])]:
            path.write_text(path.read_text(encoding="utf-8").replace(old, new), encoding="utf-8")
    done = python(ROOT / "tools" / "check_words.py", tmp_path)
    assert done.returncode == 1
    assert [report for *_, report in WORDS if report not in done.stdout] == []


SOLVE = (
    "import unhurried_heron as uh\n"
    "p = uh.Problem.from_text('x = 2\\ny\\' = -y*x', initial={'y': 1}, interval=(0, 1))\n"
    "print(uh.integrate(p, 'dormand-prince-54', rtol=1e-9).final['y'])"
)


@pytest.mark.parametrize("writable", [True, False])
@pytest.mark.long
def test_kernels_are_kept_on_disk(tmp_path: Path, writable: bool) -> None:
    cache = tmp_path / "cache"
    cache.mkdir()
    index = {"UNHURRIED_HERON_CACHE": str(cache), "TMPDIR": str(tmp_path)}
    if not writable:
        # a file where the folder should be: unwritable for every user, root included
        index["UNHURRIED_HERON_CACHE"] = str(cache / "taken")
        (cache / "taken").write_text("")
    # where nothing can be kept, one run tells what the next does, too
    both = [subprocess.Popen([sys.executable, "-c", SOLVE], env={**os.environ, **index}, stdout=subprocess.PIPE,
                             stderr=subprocess.PIPE, text=True) for _ in range(1 + writable)]  # fmt: skip
    outputs = [process.communicate(timeout=300) for process in both]
    again = python("-c", SOLVE, **index) if writable else subprocess.CompletedProcess([], 0, *outputs[0])
    assert {out for out, _ in outputs} == {again.stdout}
    assert abs(float(again.stdout) - 0.1353352832366127) < 1e-8
    assert any("compiling" in err for _, err in outputs)
    # a cache that cannot be used is done without, after one warning, and nothing is left behind
    assert ("compiling" in again.stderr) is not writable
    assert again.stderr.count("CacheWarning") == (not writable)
    assert bool(list(tmp_path.rglob("*.machine-code"))) is writable
    assert not list(tmp_path.glob("unhurried-heron-*"))
    # what is damaged is compiled anew
    for kept in tmp_path.rglob("*.machine-code"):
        kept.write_bytes(kept.read_bytes()[:-100] + b"?" * 100)
    if writable:
        mended = python("-c", SOLVE, **index)
        assert "compiling" in mended.stderr
        assert mended.stdout == again.stdout
        assert "compiling" not in python("-c", SOLVE, **index).stderr


@pytest.mark.long
def test_everything_can_be_compiled_ahead(tmp_path: Path) -> None:
    heron, number = Path(sys.executable).with_name("heron"), {**os.environ, "UNHURRIED_HERON_CACHE": str(tmp_path)}
    # the listed kernels are all that the house has
    kernels = ROOT / "src/unhurried_heron/kernels"
    entries = set()
    for path in kernels.rglob("*.py"):
        for node in ast.parse(path.read_text()).body:
            plain = isinstance(node, ast.FunctionDef) and not node.decorator_list
            name = node.name if plain and [a.arg for a in node.args.args] == ["address"] else ""
            name = "family" if ast.unparse(node).startswith("family = answering(") else name
            if name:
                entries.add(".".join([*path.relative_to(kernels).with_suffix("").parts, name]))
    assert entries == set(KERNELS)
    # three that are new, and the others as this machine has them
    known = cache_folder()
    load_kernels(*KERNELS)
    shutil.copytree(known, tmp_path / known.name)
    for path in sorted((tmp_path / known.name).glob("*.machine-code")):
        if path.name.startswith(("march.polynomial", "explicit_runge_kutta", "linear_algebra.dense_lu")):
            path.unlink()
    new = len([name for name in KERNELS if not (tmp_path / _path_of(name).relative_to(known.parent)).exists()])
    assert new >= 3
    there = len(KERNELS) - new
    for counts in (f"{new} kernels compiled, {there} were there", f"0 kernels compiled, {len(KERNELS)} were there"):
        done = subprocess.run([heron, "prepare"], env=number, capture_output=True, text=True, timeout=300, check=True)
        assert counts in done.stdout
        assert str(tmp_path) in done.stdout
    assert "compiling" not in python("-c", SOLVE, **number).stderr


@pytest.mark.long
def test_numba_is_not_needed_once_kernels_are_compiled() -> None:
    assert python("-c", SOLVE).returncode == 0
    done = python("-X", "importtime", "-c", SOLVE)
    assert "0.1353352" in done.stdout
    assert "numba" not in {line.rsplit("|", 1)[-1].strip().partition(".")[0] for line in done.stderr.splitlines()}


@pytest.mark.long
def test_a_read_only_installation_still_works(tmp_path: Path) -> None:
    copy = tmp_path / "site" / "unhurried_heron"
    shutil.copytree(ROOT / "src" / "unhurried_heron", copy, ignore=shutil.ignore_patterns("__pycache__"))
    # texts of kernels that are damaged are not used, nor those of other sources
    kept = sorted((copy / "kernels" / "machine_code" / "drafts").iterdir())
    kept[0].write_bytes(kept[0].read_bytes()[:-9])
    (copy / "kernels" / "explicit_runge_kutta.py").write_text(
        (copy / "kernels" / "explicit_runge_kutta.py").read_text() + "\n# another source\n"
    )
    for path in [copy, *copy.rglob("*")]:
        path.chmod(path.stat().st_mode & ~(stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH))
    done = python("-c", SOLVE, PYTHONPATH=str(copy.parent), UNHURRIED_HERON_CACHE=str(tmp_path / "kernels"))
    assert done.returncode == 0, done.stderr
    assert list((tmp_path / "kernels").rglob("*.machine-code"))
    assert not list(copy.rglob("*.machine-code"))


@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda path: path.stem)
@pytest.mark.long
def test_examples_run(example: Path, tmp_path: Path) -> None:
    done = script(example, tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout


@pytest.mark.long
def test_benchmarks_run() -> None:
    # one that needs no C compiler; all lay out their marches alike
    done = python(ROOT / "benchmarks" / "run.py", "--part", "chunks")
    assert done.returncode == 0, done.stderr
    assert "chunked / one shot" in done.stdout


def test_docstring_examples() -> None:
    files = [path for path in (ROOT / "src/unhurried_heron").rglob("*.py") if ">>>" in path.read_text(encoding="utf-8")]
    assert len(files) > 5
    for path in files:
        module = importlib.import_module(".".join(path.relative_to(ROOT / "src").with_suffix("").parts))
        found = doctest.testmod(module)
        assert found.attempted, path
        assert not found.failed, path


@pytest.mark.parametrize("name", KERNELS)
def test_machine_code_goes_with_all_that_its_kernel_imports(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever a kernel's file imports of this package, directly or not, may hold a constant of its machine code."""
    package = Path(drafts.__file__).parents[2]
    sources = drafts.sources(drafts.module_of(name))
    known = {path.relative_to(package).with_suffix("").as_posix() for path in sources}
    missing = {
        node.module
        for path in sources
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("unhurried_heron.")
        and (package / f"{node.module.partition('.')[2].replace('.', '/')}.py").exists()
        and node.module.partition(".")[2].replace(".", "/") not in known
    }  # fmt: skip
    assert missing <= {f"unhurried_heron.{name}" for name in ("errors", "deadline", "quiet")}
    assert {"kernels/machine_code/compiling", "kernels/machine_code/signature"} <= known
    # another text of any of them, or another version, is other machine code; that of a file beside them is not
    digest, read = drafts.sources_digest.__wrapped__, drafts._read
    was = digest(name)
    for changed in (*sources, package / "kernels" / "nothing.py"):
        monkeypatch.setattr(drafts, "_read", lambda path: (b"" if path == changed else read(path)[0], read(path)[1]))  # noqa: B023  # it is called at once
        assert (digest(name) == was) is (changed not in sources)
    monkeypatch.setattr(drafts, "_read", read)
    monkeypatch.setattr(drafts, "VERSION", "another")
    assert digest(name) != was


@pytest.mark.long
def test_texts_of_kernels_are_the_same_in_every_process() -> None:
    """One source, one text, which is the one that is shipped: `.ci/run` compares all of them."""
    code = (
        "import sys; from unhurried_heron.kernels.machine_code.compiling import compile_named; "
        "[sys.stdout.write(compile_named(name) if name == sys.argv[-1] else '') for name in sys.argv[1:]]"
    )
    names = ["linear_algebra.dense_lu.solve", "march.polynomial.evaluate_rows"]
    first = python("-c", code, *names, PYTHONHASHSEED="0").stdout
    assert first == read_draft(names[1])
    assert "@kernel(" in first
    assert not re.search(r"unhurried|@[^ ]*numba|/|inttoptr .i64 [0-9]", first)
