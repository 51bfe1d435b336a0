"""Windows in which formulas of the time vary narrowly: every peak has one, and the shortest steps hold."""

from __future__ import annotations

import numpy as np
import pytest
from representatives import marches_functions, representatives

import unhurried_heron as uh
from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.narrow_features import StepLimitWindow, narrow_windows
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source

Windows = tuple[StepLimitWindow, ...]


def formulas(*texts: str) -> list[Node]:
    return [read(Source(text, "written")).node for text in texts]


def longest_at(windows: Windows, time: float) -> float:
    """How long steps may be at a time, on the longer of two windows that touch there."""
    return max((each.longest for each in windows if each.start <= time < each.end), default=np.inf)


def in_order(windows: Windows, low: float, high: float) -> bool:
    ends = [low, *(time for each in windows for time in (each.start, each.end)), high]
    return ends == sorted(ends) and all(each.longest > 0 for each in windows)


def test_every_peak_of_a_comb_has_a_window() -> None:
    """More windows than there is room for at first, where the comb is fine; none where it is coarse."""
    widths = np.array([0.002, 0.5, 0.004, 3.0])
    rows = narrow_windows(formulas("exp(-(sin(pi*t)/width)^2)"), {"width": widths}, 0.5, np.full(4, 600.5))
    assert [bool(windows) for windows in rows] == [True, False, True, False]
    assert len(rows[0]) > 1000
    for width, windows in zip(widths, rows, strict=True):
        assert in_order(windows, 0.5, 600.5)
        for peak in range(1, 601) if windows else ():
            assert longest_at(windows, peak) < 3 * width
            assert longest_at(windows, peak + 0.25) == np.inf


@pytest.mark.parametrize(("rate", "known"), [(20, True), (1e7, False)])
def test_what_varies_too_often_is_found(rate: float, known: bool) -> None:
    problem = uh.Problem.from_text(
        "x' = exp(-(sin(rate*t)/0.01)^2)", initial={"x": 0}, parameters={"rate": rate}, interval=(0, 20)
    )
    messages = [each.message for each in uh.check(problem).findings if each.about == "narrow"]
    assert [("sin(rate*t)" in each, "largest_step" in each) for each in messages] == [(True, True)] * (not known)
    assert bool(problem.narrow) is known


TEXTS = {
    "peak": "exp(-((t - at)/0.01)^2)",
    "wide peak": "exp(-((t - at - 0.1)/0.3)^2)",
    "front": "tanh((t - 2*at)/0.002)",
    "resonance": "1/((t - 7)^2 + (0.001*at)^2)",
    "root": "sqrt((t - at)^2 + 1e-6)",
    "jump": "where(t > at, exp(-t), log(t + 2))",
    "two": "max(exp(-((t - 1)/0.001)^2), 0.5*exp(-((t - at)/0.003)^2))",
    "wave": "sin(300*t)/(1.0001 + cos(at*t))",
    "no number": "log(t - at)",
    "pole": "1/(t - at)",
    "overflow": "exp(800*t)",
}


@pytest.mark.parametrize("first", TEXTS)
@pytest.mark.parametrize("second", TEXTS)
def test_of_two_formulas_the_shorter_steps_hold(first: str, second: str) -> None:
    """And of many rows of values at once each is what it is alone."""
    values, low, high = {"at": np.array([0.31, 2.5, 3.999])}, -1.0, np.array([9.0, 11.0, 9.5])
    both = narrow_windows(formulas(TEXTS[first], TEXTS[second]), values, low, high)
    for row, windows in enumerate(both):
        own, end = {"at": float(values["at"][row])}, float(high[row])
        assert narrow_windows(formulas(TEXTS[first], TEXTS[second]), own, low, end) == [windows]
        assert in_order(windows, low, end)
        alone = [narrow_windows(formulas(TEXTS[each]), own, low, end)[0] for each in (first, second)]
        edges = np.unique([time for each in (*alone, windows) for window in each for time in window[:2]])
        for time in (edges[1:] + edges[:-1]) / 2:
            bound = min(longest_at(each, time) for each in alone)
            # by factors of four: what is alike is joined, with the shorter steps
            assert bound / 4 <= longest_at(windows, time) <= 4 * bound or longest_at(windows, time) < np.inf == bound


@pytest.mark.parametrize("at", [2.9, 3.0, 3.00001, 3.3])
@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_a_peak_within_a_wider_one_is_seen(method: str, at: float) -> None:
    problem = uh.Problem.from_text(
        "x' = exp(-((t - 3)/0.01)^2) + 1e4*exp(-((t - at)/1e-6)^2)",
        initial={"x": 0}, parameters={"at": at}, interval=(0, 9),
    )  # fmt: skip
    run = uh.integrate(problem, method, rtol=1e-6, atol=1e-8)
    assert run.final["x"] == pytest.approx(0.02 * np.sqrt(np.pi), rel=3e-5)
    assert run.tally.accepted < 600


LAYER = "x' = exp(-abs(t - at)/width)/width\ny' = 1 - tanh((t - at)/width)^2"


@pytest.mark.parametrize("method", representatives(lambda method: marches_functions(method) and method.order > 1))
@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize("at", [0.0, 1.0, -3e4])
def test_what_is_narrow_at_the_start_is_seen(method: str, at: float, sign: int) -> None:
    problem = uh.Problem.from_text(
        LAYER, initial={"x": 0, "y": 0}, parameters={"at": at, "width": 1e-3}, interval=(at, at + 10 * sign)
    )
    assert problem.narrow[0 if sign > 0 else -1][(0, 1)[sign < 0]] == at
    run = uh.integrate(problem, method, rtol=1e-4, atol=1e-7)
    assert run.ending.as_requested, run.ending
    assert list(run.final.values()) == pytest.approx([sign, sign * 1e-3], rel=1e-2)
    assert run.tally.accepted < 3000
