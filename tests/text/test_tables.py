"""Documents as a terminal shows them."""

from __future__ import annotations

import io
import math
import re

import pytest
from rich.console import Console

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.study.methods_table import document_of
from unhurried_heron.text.answers import answers_document
from unhurried_heron.text.document import Column, Document, Table
from unhurried_heron.text.numbers import number
from unhurried_heron.text.terminal import renderables


def shown(document: Document, width: int = 140) -> str:
    console = Console(file=io.StringIO(), width=width)
    for part in renderables(document, width):
        console.print(part)
    return console.file.getvalue()


def test_a_run_is_told_whole(pond: uh.Problem) -> None:
    run = uh.integrate(pond, rtol={"level": 1e-6}, atol=1e-9, events=[uh.Event("level = 1", name="mark")])
    text = shown(run.document())
    for words in (
        "auto took verner-76",
        "rtol 1e-06",
        "reached the end, t = 72.",
        "mark",
        f"{run.final['spill']:.8g}",
    ):
        assert words in text
    assert f"{run.tally.accepted} steps accepted" in text
    assert "Jacobians" not in text
    assert "Jacobians" in shown(uh.integrate(pond, "radau-iia-5").document())
    assert "step 0.5" in shown(uh.integrate(pond, "euler", step=0.5).document())


def test_long_lists_of_events_say_how_many_are_left_out() -> None:
    problem = uh.Problem.from_text("x' = cos(t)", initial={"x": 0}, interval=(0, 100), events=[uh.Event("x = 0.5")])
    text = shown(uh.integrate(problem).document())
    assert text.count("x = 0.5") == 12
    assert "20 more events" in text


@pytest.mark.parametrize("count", [1, 2, 12, 13, 14, 24, 25, 26])
def test_lists_say_what_they_leave_out(count: int) -> None:
    jumps = uh.Event(at=[k + 0.5 for k in range(count)], then="x = x + 1", name="jump")
    levels = [uh.Event(f"x = {-k}", name=f"level {k}") for k in range(1, count + 1)]
    # a swing passes zero where jumps do not move it
    text = "x' = 0*x\ny' = pi*v\nv' = -pi*y"
    problem = uh.Problem.from_text(text, initial={"x": 0, "y": 0.5, "v": math.sqrt(0.75)},
                                   interval=(0, count), events=[jumps, *levels])  # fmt: skip
    run = uh.integrate(problem, "verner-76", rtol=1e-9)
    page = shown(run.document())
    assert len(re.findall(r"jump  .* → ", page)) == min(count, 12)
    assert (f"{count - 12} more event{'s' * (count > 13)}: " in page) == (count > 12)
    assert page.count("did not happen") == min(count, 12)
    assert (f"nor did {count - 12:,} more" in page) == (count > 12)
    answers = shown(answers_document(run, [("crossings", "y = 0")]))
    assert len(re.findall(r"^ +\d[\d.]*  ", answers, re.MULTILINE)) == min(count, 24)
    assert (f"{count - 24:,} more: in Python" in answers) == (count > 24)


@pytest.mark.parametrize("count", [1, 2, 3])
def test_equilibria_are_counted(count: int) -> None:
    rate = "*".join(f"(x - {k})" for k in range(count))
    problem = uh.Problem.from_text(f"x' = {rate}", initial={"x": 0.5}, interval=(0, 1), units={"t": "d"})
    page = shown(uh.equilibria(problem, {"x": (-1, 5)}).document())
    assert f"{count} equilibri{'um' if count == 1 else 'a'} with x from -1 to 5" in page
    for k in range(count):
        derivative = math.prod(k - other for other in range(count) if other != k)
        assert re.search(rf"^ *{k}  .*(^|[ -]){abs(derivative)}( |$)", page, re.MULTILINE)


def test_failures_stand_out(pond: uh.Problem) -> None:
    problem = uh.Problem.from_text("x' = -500*x", initial={"x": 1}, interval=(0, 100))
    with pytest.warns(uh.IncompleteRunWarning, match="see run.ending"):
        run = uh.integrate(problem, "euler", step=0.1)
    assert "take a smaller one" in shown(run.document()).replace("\n", " ")
    text = shown(uh.compare(problem, ["adams-bashforth-1", "radau-iia-5"], rtol=1e-5, step=0.1).document())
    assert "adams-bashforth-1, step 0.1: state 'x' or its rate is not finite" in text
    assert "against radau-iia-5" not in text.split("radau-iia-5 against")[0]
    assert "closed form" not in text


@pytest.mark.long
def test_numbers_and_names_are_never_cut() -> None:
    families = len({method.family for method in all_methods()})
    for width in (190, 60, 38, 20):
        narrow = shown(document_of(all_methods()), width=width)
        assert "euler" in narrow
        # the tables of all families leave out the same
        assert narrow.count("left out") == (width < 190)
        assert len(re.findall("order +embedded", narrow)) == (families if width > 38 else 0)
        if width > 20:
            assert all(method.name in narrow for method in all_methods())
        assert "…" not in narrow
    # as many columns as there is room for, and not one more
    columns = (Column("alpha", "words"), Column("b", digits=4), Column("gamma"), Column("d"))
    sheet = Document("", (Table(columns, (("word", 123.5, 7, 12345),)),))
    whole = len(shown(sheet, 200).splitlines()[1])
    for width, kept in ((whole, 4), (whole - 1, 3), (whole - 10, 2), (whole - 19, 1)):
        lines = shown(sheet, width).splitlines()
        assert [name in lines[1] for name in ("alpha", " b", "gamma", " d")] == [index < kept for index in range(4)]
        assert max(map(len, lines)) <= width
    assert number(None) == number(float("nan")) == "–"
    assert number(1234567) == "1,234,567"
    assert number(0.000123456) == "0.000123"
