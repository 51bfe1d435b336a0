"""Methods of one's own, by data alone, in every family."""

from __future__ import annotations

from typing import Any

import pytest

import unhurried_heron as uh
from unhurried_heron.testing import check_method

THIRD = ["1/3", "1/3", "1/3"]
OWN = {
    "three nodes": uh.RungeKutta.from_nodes("three-nodes", ["1/4", "2/3", 1]),
    "four nodes": uh.RungeKutta.from_nodes("four-nodes", [0.1, 0.4, 0.7, 0.95]),
    "two full stages": uh.RungeKutta("full", a=[["5/12", "-1/12"], ["3/4", "1/4"]], b=["3/4", "1/4"]),
    "two diagonals": uh.RungeKutta("two", a=[["1/4"], ["1/2", "1/4"]], b=["1/2", "1/2"]),
    "explicit first": uh.RungeKutta("ends", a=[[], ["1/4", "1/4"], THIRD], b=THIRD, b_embedded=["1/2", "1/2", 0]),
    "linearly implicit": uh.Rosenbrock(
        "one", alpha=[[], ["2/3"]], gamma=[["3/10"], ["-4/3", "3/10"]], b=["1/4", "3/4"]
    ),
    "in two parts": uh.Additive(
        "halves", a=[[], ["1/2", "1/2"]], a_explicit=[[], [1]], b=["1/2", "1/2"], b_embedded=[0, 1]
    ),
    "differentiated": uh.Multistep("two-back", a=["4/3", "-1/3"], b=["2/3"]),
    "predicted": uh.Multistep("pair", a=[1], b=["1/2", "1/2"], predictor=([1], [0, "3/2", "-1/2"])),
    "lower orders": uh.VariableMultistep("few", "backward differentiation of variable order", 3),
    "one evaluation": uh.VariableMultistep("lean", "Adams of variable order", 4, evaluations=1),
}


@pytest.mark.parametrize("kind", OWN)
def test_it_keeps_the_contract(kind: str) -> None:
    check_method(OWN[kind])


def test_what_is_computed() -> None:
    assert [OWN[kind].order for kind in list(OWN)[:4]] == [3, 4, 3, 2]
    assert OWN["two full stages"].region.l_stable
    assert OWN["differentiated"].error_constant == pytest.approx(-1 / 3)
    assert OWN["two full stages"].first_missed == "sum of b_i*(sum of a_ij*(sum of a_jk*c_k)) = 1/24, missed by -0.0139"
    midpoint = uh.RungeKutta("m", a=[[], ["1/2"]], b=[0, 1])
    assert [midpoint.extrapolating(wanted).order for wanted in (False, True)] == [2, 3]
    higher = uh.integrate(
        uh.Problem.from_text("x' = x", initial={"x": 1}, interval=(0, 1)), "euler", rtol=1e-3, local_extrapolation=True
    )
    assert higher.final["x"] == pytest.approx(2.718281828, rel=1e-3)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: uh.RungeKutta("x", a=[["1/4", "-1/16"], [1, "3/4"]], b=["1/2", "1/2"]), "solved apart"),
        (lambda: uh.RungeKutta("x", a=[[1, 1], [1, 1]], b=["1/2", "1/2"]), "singular"),
        (lambda: uh.RungeKutta.from_nodes("x", [0.5, 0.5]), "distinct"),
        (lambda: uh.RungeKutta.from_nodes("x", [0.5, 2]), "from 0 to 1"),
        (lambda: uh.Rosenbrock("x", alpha=[[], [1]], gamma=[["1/2"], [0, "1/3"]], b=["1/2", "1/2"]), "one number"),
        (lambda: uh.Rosenbrock("x", alpha=[[1]], gamma=[["1/2"]], b=[1]), "strictly lower"),
        (lambda: uh.Rosenbrock("x", alpha=[[]], gamma=[["1/2"]], b=[2]), "not consistent"),
        (lambda: uh.Rosenbrock("x", alpha=[[]], gamma=[["1/2"]], b=[1], b_embedded=[1]), "does not estimate"),
        (lambda: uh.Additive("x", [[], [0, 1]], [[], [0, 1]], [0, 1], [1, 0]), "not explicit"),
        (lambda: uh.Additive("x", [[], [0, 1]], [[], ["1/2"]], [0, 1], [1, 0]), "other nodes"),
        (lambda: uh.Additive("x", [[1], [0, 1]], [[], [1]], [0, 1], [1, 0]), "first row zero"),
        (lambda: uh.Additive("x", [[], [0, 1]], [[], [1]], [0, 1], None), "b_embedded"),
        (lambda: uh.Multistep("x", a=[2, -1], b=[0, 1]), "order 1"),
        (lambda: uh.Multistep("x", a=[-4, 5], b=[0, 4, 2]), "root of modulus 5"),
        (lambda: uh.Multistep("x", a=[1], b=[0, 1], predictor=([1], [0, 1])), "does not fit"),
        (lambda: uh.VariableMultistep("x", "Adams of variable order", 13), "from 1 to 12"),
        (lambda: uh.VariableMultistep("x", "Adams", 3), "no such multistep family"),
    ],
)
def test_what_cannot_be_is_refused(make: Any, words: str) -> None:
    with pytest.raises(uh.MethodError, match=words):
        make()
