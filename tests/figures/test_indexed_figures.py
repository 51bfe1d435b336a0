"""Families and switches in tables and figures."""

from __future__ import annotations

import re

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.checks.check import check_file
from unhurried_heron.demo import demo_file
from unhurried_heron.figures.records import states_record


@pytest.fixture(scope="module")
def column() -> uh.Run:
    problem = uh.Problem.from_text(
        "u[i]' = -k*i*u[i] for i in 1..n\nw' = -w\ntwice[i] = 2*u[i] for i in 1..n",
        initial={"u": 1, "w": 3},
        parameters={"k": 0.1, "n": 12},
        interval=(0, 5),
        units={"u": "m", "t": "h", "w": "m"},
        check_units=False,
        title="Column",
    )
    return uh.integrate(problem, rtol=1e-8)


def test_a_large_family_is_one_row(column: uh.Run) -> None:
    text = str(column)
    low, high = np.exp(-6), np.exp(-0.5)
    assert re.search(rf"u\[1\.\.12\] +{low:.6g} … {high:.6g} +m", text)
    assert "twice[1..12]" in text
    assert "u[3]" not in text
    assert "w " in text


def test_a_large_family_is_drawn_as_a_map(column: uh.Run) -> None:
    record = states_record(column)
    (shown,) = record.maps
    assert (shown.label, shown.y.tolist()) == ("u [m]", list(range(1, 13)))
    assert shown.values == pytest.approx(np.exp(-0.1 * np.outer(np.arange(1, 13), shown.x)), rel=1e-5)
    assert [curve.label for _, curves in record.panels for curve in curves] == ["w"]
    panel, picture, *_ = uh.draw_states(column).axes
    assert panel.get_shared_x_axes().joined(panel, picture)
    derived = states_record(column, ["twice", "u[2]"])
    assert derived.maps[0].values[4, -1] == pytest.approx(2 * np.exp(-2.5), rel=1e-6)
    with pytest.raises(uh.RunError, match="did you mean 'twice'"):
        states_record(column, ["twise"])


def test_small_families_are_curves_and_plates_are_pictures() -> None:
    small = uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial={"u": 1}, interval=(0, 1))
    record = states_record(uh.integrate(small))
    assert not record.maps
    assert [curve.label for curve in record.panels[0][1]] == ["u[1]", "u[2]", "u[3]"]
    plate = uh.Problem.from_text(
        "c[i,j]' = -i*c[i,j] for i in 1..4, j in 0..6", initial={"c[i,j]": "j"}, interval=(0, 1)
    )
    run = uh.integrate(plate)
    (shown,) = states_record(run).maps
    assert shown.values == pytest.approx(np.outer(np.exp(-np.arange(1.0, 5.0)), np.arange(7.0)), rel=1e-6)
    figure = uh.draw_states(run)
    # the picture and its scale
    assert len(figure.axes) == 2
    assert figure.axes[0].get_ylabel() == "first index"


def test_switches_are_told_in_the_report() -> None:
    problem = uh.Problem.from_text("x' = where(t < 1, 1, 2) + sign(x - 1.5)", initial={"x": 0}, interval=(0, 3))
    text = str(uh.integrate(problem, budget={"steps": 500}))
    assert "landed on switches: t < 1 (1 time)" in text


def test_switches_are_counted() -> None:
    user_input = {"initial": {"x": 0.0}, "interval": (0, 10)}
    once, twice = (uh.Problem.from_text(f"x' = where(sin(t) > {low}, 1, 0)", **user_input) for low in (0.5, -0.9))
    assert "(4 times)" in str(uh.integrate(once))
    assert "(2 times)" in str(uh.integrate(twice))
    assert "(1 time)" in str(uh.integrate(once.with_(interval=(0, 1))))
    assert "banded factors" in str(uh.integrate(once, "radau-iia-5", linear="banded"))


def test_many_values_are_not_all_written_out() -> None:
    twelve, more = (uh.Problem.from_text(f"u[i]' = -u[i] for i in 1..{n}", initial={"u": 1}, interval=(0, 1)).initial
                    for n in (12, 13))  # fmt: skip
    assert repr(twelve).endswith("'u[12]': 1.0}")
    assert repr(more).endswith("'u[12]': 1.0, …}")


def test_the_check_is_printed_whole() -> None:
    report, _ = check_file(demo_file("mistakes"))
    text = str(report)
    # carets stay under what they point at
    lines = text.splitlines()
    at = next(k for k, line in enumerate(lines) if "= widht * max" in line)
    assert lines[at].index("widht") == lines[at + 1].index("^")
    assert text.rstrip().endswith("6 things wrong")
    report, _ = check_file(demo_file("culvert"))
    text = str(report)
    assert "(z')' = (-loss*z'*abs(z')/2 - 2*g*z)/length" in text
    assert "nothing wrong" in text


def test_families_stand_along_physical_coordinates() -> None:
    text = "u[i]' = -u[i] for i in 1..n\ndepth[i] = (i - 0.5)*dz for i in 1..n"
    problem = uh.Problem.from_text(text, initial={"u": [1.0] * 12}, parameters={"n": 12, "dz": 2.0}, interval=(0, 1),
                                   units={"depth": "mm"})  # fmt: skip
    run = uh.integrate(problem)
    indices = 2.0 * (np.arange(12) + 0.5)
    for user_input, label in (("depth", "depth [mm]"), ("(i - 0.5)*dz", "(i - 0.5)*dz"), (indices, "")):
        (shown,) = states_record(run, ["u"], along={"u": user_input}).maps
        assert (shown.y_label, shown.y.tolist()) == (label, indices.tolist())
    for wrong in ({"x": "depth"}, {"u": "q*i"}, {"u": [1, 2]}, {"u": "0*i"}, {"u": object()}, "depth"):
        with pytest.raises(uh.OptionError, match=r"coordinate"):
            uh.draw_states(run, ["u"], along=wrong)
