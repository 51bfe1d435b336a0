"""The pages keep their word: every Python block runs, every link and picture is there, every file shown is one."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest
from forked import script

import unhurried_heron as uh
from unhurried_heron.input.file_reader import parse_document
from unhurried_heron.methods.catalogue import all_methods

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]


def code_blocks(page: Path, language: str) -> list[str]:
    return re.findall(rf"^```{language}\n(.*?)^```", page.read_text(encoding="utf-8"), flags=re.M | re.S)


@pytest.mark.parametrize("page", [page for page in PAGES if code_blocks(page, "python")], ids=lambda page: page.name)
@pytest.mark.long
def test_python_blocks_run_in_order(page: Path, tmp_path: Path) -> None:
    path = tmp_path / "page.py"
    path.write_text("\n".join(code_blocks(page, "python")), encoding="utf-8")
    done = script(path, tmp_path, PYTHONWARNINGS="error")
    assert done.returncode == 0, done.stderr
    # what a page shows below its code is what the code prints
    shown = [text for text in code_blocks(page, "text") if "Error: " in text]
    assert [text for text in shown if text not in done.stdout] == []


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    targets = re.findall(r"\]\(([^)#]+)(?:#[\w-]+)?\)", page.read_text(encoding="utf-8"))
    missing = [target for target in targets if not (page.parent / target).exists()]
    assert not missing


def test_the_guide_to_families_shows_what_the_tests_run() -> None:
    files = "".join(path.read_text(encoding="utf-8") for path in sorted((ROOT / "tests" / "families").glob("*.py")))
    shown = code_blocks(ROOT / "docs" / "writing-a-family.md", "py")
    assert len(shown) == 9
    assert [text for text in shown if text not in files] == []


def test_the_file_shown_is_a_problem() -> None:
    (shown,) = code_blocks(ROOT / "docs" / "ask.md", "toml")
    problem = uh.Problem.from_content(parse_document(tomllib.loads(shown), "the page"))
    run = uh.integrate(problem, **problem.integrate_options)
    assert run.ending.reason == "end"
    assert run.times.size == 200


def test_the_page_of_methods_tells_the_truth() -> None:
    rows = re.findall(
        r"^\| `([\w-]+)` \| (\d+) \| (\d+|–) \| (\d+) \|.*\| (yes|no) \| \S+ \| \S+ \|$",
        (ROOT / "docs/methods.md").read_text(encoding="utf-8"),
        re.M,
    )
    words = {True: "yes", False: "no"}
    assert rows == [
        (m.name, str(m.order), str(m.embedded_order or "–"), str(m.interpolant_order), words[m.stiff])
        for m in all_methods()
    ]


def test_the_page_of_formulation_shows_every_kind_of_mistake() -> None:
    shown = "".join(code_blocks(ROOT / "docs" / "say-it.md", "text"))
    kinds = {kind.__name__ for kind in uh.FormulationError.__subclasses__()}
    assert len(kinds) > 14
    assert {kind for kind in kinds if f"{kind}: " not in shown} == set()


def test_every_public_name_has_a_docstring_that_tells_its_errors() -> None:
    for name in uh.__all__:
        value = getattr(uh, name)
        assert name == "__version__" or (value.__doc__ and len(value.__doc__) > 20), name
    for function in (
        uh.integrate,
        uh.compare,
        uh.draw_states,
        uh.write_csv,
        uh.Problem.from_text,
        uh.Problem.from_lagrangian,
        uh.Problem.from_hamiltonian,
        uh.Problem.from_rates,
        uh.Problem.from_residuals,
        uh.Problem.from_file,
        uh.Problem.to_file,
        uh.Measured,
    ):
        assert "Raises\n" in function.__doc__.replace("        ", "").replace("    ", ""), function.__name__


def test_readme_holds_the_two_commands() -> None:
    assert code_blocks(ROOT / "README.md", "sh") == [
        "pip install . && heron demo\n",
        "pip install '.[test]' && pytest\n",
    ]
