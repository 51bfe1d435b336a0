"""Coefficients and what follows from them."""

from __future__ import annotations

import math
from fractions import Fraction
from importlib.resources import files

import mpmath
import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.methods import catalogue
from unhurried_heron.methods.catalogue import CATALOGUE, all_methods
from unhurried_heron.methods.constraint_trees import algebraic_trees, differential_trees
from unhurried_heron.methods.interpolant import continuous_weights
from unhurried_heron.methods.published import published
from unhurried_heron.methods.rooted_trees import density, size, trees

RADAU = CATALOGUE["radau-iia-5"]


def test_number_of_rooted_trees() -> None:
    # A. Cayley's numbers, and Butcher's identity: the labellings of all trees of one order sum to (n - 1)!
    assert [len(trees(n)) for n in range(1, 9)] == [1, 1, 2, 4, 9, 20, 48, 115]
    assert all(size(tree) == 6 for tree in trees(6))
    assert sorted(density(tree) for tree in trees(4)) == [4, 8, 12, 24]


def test_what_chooses_can_all_that_its_members_can() -> None:
    facts = uh.methods().loc["auto"]
    assert facts[["adaptive", "implicit", "stiff"]].all()


@pytest.mark.parametrize("name", [name for name in CATALOGUE if name != "auto"])
def test_names_tell_the_orders_that_follow_from_the_coefficients(name: str) -> None:
    method = CATALOGUE[name]
    if "variable" in name or name in ("euler", "backward-euler", "implicit-midpoint", "trapezoidal"):
        return
    last = name.removesuffix("-7").removesuffix("-8") if name.startswith("esdirk-54") else name
    digits = last.rsplit("-", 1)[1]
    # a pair has the orders of both, the one that is carried on first
    orders = (int(digits),) if len(digits) == 1 or method.family.startswith("fully") else tuple(map(int, digits[:2]))
    assert (method.order, method.embedded_order)[: len(orders)] == orders


def test_order_of_a_users_tableau_is_computed() -> None:
    midpoint = uh.RungeKutta("midpoint", a=[[], [0.5]], b=[0, 1], c=[0, 0.5])
    spoilt = uh.RungeKutta("spoilt", a=[[], [0.5]], b=[0.01, 0.99], c=[0, 0.5])
    assert (midpoint.order, spoilt.order) == (2, 1)
    third, two = "0." + "3" * 19, "0." + "6" * 19 + "7"
    decimals = uh.RungeKutta("decimals", a=[[], [third], [0, two]], b=[0.25, 0, 0.75], c=[0, third, two])
    assert decimals.order == 3


def extrapolated(order: int) -> uh.RungeKutta:
    """Euler's method with 1, 2, 3, … steps, extrapolated: as many stages as they take together."""
    counts = list(range(1, order + 1))
    a: list[list[Fraction]] = [[]]
    starts = {}
    for n in counts:
        starts[n] = len(a) - 1
        for j in range(1, n):
            row = [Fraction(0)] * len(a)
            row[0] += Fraction(1, n)
            for i in range(1, j):
                row[starts[n] + i] += Fraction(1, n)
            a.append(row)
    b = [Fraction(0)] * len(a)
    for n in counts:
        weight = Fraction(1)
        for m in counts:
            if m != n:
                weight *= Fraction(n, n - m)
        b[0] += weight / n
        for j in range(1, n):
            b[starts[n] + j] += weight / n
    c = [sum(row, Fraction(0)) for row in a]
    return uh.RungeKutta(f"extrapolated-{order}", a=a, b=b, c=c)


def test_order_eight_is_seen() -> None:
    # extrapolating Euler's method over 1..8 substeps gives order 8 (Hairer, Norsett and Wanner I, section II.9)
    assert extrapolated(8).order == 8


@pytest.mark.parametrize(("order", "reached"), [(2, 2), (3, 3), (4, 3), (5, 3), (6, 4)])
def test_the_interpolant_is_the_best_of_its_order(order: int, reached: int) -> None:
    method = extrapolated(order)
    a = [[*map(float, row), 0.0] for row in method.a] + [[*map(float, method.b), 0.0]]
    weights, met = continuous_weights(a, a[-1], order)
    # the cubic through values and rates of both ends is of order 3, and needs no tableau
    assert reached <= met <= order
    assert weights.shape[0] <= max(met, 3) + 1
    gauss, measure = np.polynomial.legendre.leggauss(12)
    theta = (gauss + 1) / 2
    powers = theta[:, None] ** np.arange(1, weights.shape[0] + 1)

    def stages(tree: tuple) -> np.ndarray:
        return np.prod([a @ stages(branch) for branch in tree] or [np.ones(len(a))], axis=0)

    def missed(n: int) -> np.ndarray:
        return np.array([powers @ weights @ stages(tree) - theta**n / density(tree) for tree in trees(n)])

    assert max(np.abs(missed(n)).max() for n in range(1, met + 1)) < 1e-11
    # a change that keeps ends, slopes and orders can only raise the mean square of what is missed next
    kept = np.array([stages(tree) for n in range(1, met + 1) for tree in trees(n)])
    changes = np.linalg.svd(kept)[2][np.linalg.matrix_rank(kept) :]
    along = changes @ np.array([stages(tree) for tree in trees(met + 1)]).T
    for power in range(2, weights.shape[0] - 1):
        bump = theta**power * (1 - theta) ** 2
        assert np.abs(along @ missed(met + 1) @ (measure * bump)).max() < 1e-12


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"c": [0, "1/3"]}, "not the sum of its row"),
        ({"b": [1, 1]}, "not consistent"),
        ({"c": [0]}, "wrong length"),
        ({"a": [[]]}, "do not fit"),
        ({"a": [[0, 1], [0, "1/2"]]}, "not the sum"),
        ({"continuous": ([], [[1], [1]])}, "does not end"),
        ({"b_further": ["1/2", "1/2"]}, "beside b_embedded"),
        ({"b_embedded": [0, 1]}, "equals b"),
        ({"b_embedded": [1]}, "wrong length"),
        ({"b": ["x", 1]}, "no number"),
        ({"a": [[], ["x"]]}, "row 2 of a"),
        ({"b_embedded": ["1/2", "1/3"]}, "b_embedded is not consistent"),
    ],
)
def test_bad_tableaux_are_refused(changes: dict, words: str) -> None:
    good = {"a": [[], ["1/2"]], "b": [0, 1], "c": [0, "1/2"]}
    with pytest.raises(uh.MethodError, match=words):
        uh.RungeKutta("mine", **{**good, **changes})


def test_the_last_stage_is_the_first_of_the_next_step() -> None:
    decay = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 30))
    counts = [uh.integrate(decay, name, step=0.1).tally.rate_evaluations for name in ("dormand-prince-54", "heun-2")]
    assert counts == [300 * 6 + 1, 300 * 2 + 1]


def test_stability_functions() -> None:
    numerator, denominator = CATALOGUE["dormand-prince-54"].stability
    assert numerator == (
        1,
        1,
        Fraction(1, 2),
        Fraction(1, 6),
        Fraction(1, 24),
        Fraction(1, 120),
        Fraction(1, 600),
    )
    assert denominator == (1,)
    # Radau IIA: the (2, 3) Pade approximation of the exponential
    numerator, denominator = RADAU.stability
    assert np.allclose(numerator, [1, 2 / 5, 1 / 20], atol=1e-14)
    assert np.allclose(denominator, [1, -3 / 5, 3 / 20, -1 / 60], atol=1e-14)


@pytest.mark.parametrize(
    "method", [m for m in all_methods() if m.family == "explicit Runge-Kutta"], ids=lambda m: m.name
)
def test_the_limit_of_stability(method: uh.RungeKutta) -> None:
    terms, limit = [float(x) for x in method.stability[0]], method.real_stability_limit

    def size(x: float) -> float:
        return abs(sum(term * (-x) ** k for k, term in enumerate(terms)))

    assert size(limit) == pytest.approx(1.0, abs=1e-9)
    assert size(limit + 1e-6) > 1.0
    assert all(size(x) <= 1.0 for x in np.linspace(0.0, limit, 999)[:-1])


def test_radau_spectrum_against_high_precision() -> None:
    mpmath.mp.dps = 40
    s = mpmath.sqrt(6)
    a = mpmath.matrix(
        [
            [(88 - 7 * s) / 360, (296 - 169 * s) / 1800, (-2 + 3 * s) / 225],
            [(296 + 169 * s) / 1800, (88 + 7 * s) / 360, (-2 - 3 * s) / 225],
            [(16 - s) / 36, (16 + s) / 36, mpmath.mpf(1) / 9],
        ]
    )
    gamma = 3 + mpmath.cbrt(3) ** 2 - mpmath.cbrt(3)
    assert np.allclose(np.array(RADAU.a, dtype=float), np.array(a.tolist(), dtype=float), atol=1e-15)
    assert RADAU.diagonalised.gamma == pytest.approx(float(gamma), abs=1e-13)
    # e of Hairer and Wanner II, section IV.8
    known = [(-13 - 7 * math.sqrt(6)) / 3, (-13 + 7 * math.sqrt(6)) / 3, -1 / 3]
    assert np.allclose(RADAU.diagonalised.error_weights, known, atol=1e-13)


@pytest.mark.parametrize(
    "method", [m for m in all_methods() if m.family == "explicit Runge-Kutta"], ids=lambda m: m.name
)
def test_interpolants_join_smoothly(method: uh.RungeKutta) -> None:
    weights = method.interpolant
    width = weights.shape[1]
    b = np.array([float(x) for x in method.b] + [0.0] * (width - method.stages))
    # the rate at the end: the last stage, or what stands behind it
    last = method.stages - 1 if method.ends_in_a_stage else method.stages
    powers = np.arange(1, weights.shape[0] + 1)
    assert np.allclose(weights.sum(axis=0), b, atol=1e-11)
    assert np.allclose(weights[0], np.eye(width)[0], atol=1e-12)
    assert np.allclose(powers @ weights, np.eye(width)[last], atol=1e-11)


def test_unknown_method_names_the_nearest() -> None:
    problem = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 1))
    for user_input, meant in (
        ("radau-ii-5", "radau-iia-5"), ("Crank Nicolson", "trapezoidal"), ("AB4", "adams-bashforth-4"),
        ("euler-backward", "backward-euler"), ("dormandprince54", "dormand-prince-54"),
    ):  # fmt: skip
        with pytest.raises(uh.MethodError, match=f"did you mean '{meant}'"):
            uh.integrate(problem, user_input)
    with pytest.raises(uh.MethodError, match="no error estimate"):
        uh.integrate(problem, "adams-pece-4")


def test_every_record_is_a_method() -> None:
    # a record that only the file of coefficients knows would be dead
    for kind in files("unhurried_heron.methods").joinpath("published").iterdir():
        for name, record in published(kind.name.removesuffix(".json")).items():
            method = CATALOGUE[name]
            assert method.name == name
            assert method.source == record["source"]


def test_a_record_of_a_file_is_a_method(monkeypatch: pytest.MonkeyPatch) -> None:
    records = {
        kind.name.removesuffix(".json"): published(kind.name.removesuffix(".json"))
        for kind in files("unhurried_heron.methods").joinpath("published").iterdir()
    }
    new = {**records["explicit"]["heun-2"], "name": "another-2"}
    more = {**records, "explicit": {**records["explicit"], "another-2": new}}
    monkeypatch.setattr(catalogue, "published", more.__getitem__)
    fresh = catalogue.Catalogue(*catalogue.CATALOGUE.sections)
    assert {*fresh} - {*catalogue.CATALOGUE} == {"another-2"}
    assert (fresh["another-2"].order, fresh["another-2"].name) == (2, "another-2")
    assert all(name in catalogue.CATALOGUE for kind in records.values() for name in kind)


def test_constraints_take_an_order_from_rosenbrock_methods_whose_conditions_are_not_met() -> None:
    # of two stages and order 3 (Hairer and Wanner, Solving Ordinary Differential Equations II, IV.7): of z at order 2
    # it misses the sum of b_i w_ij alpha_j^2 = 1, w the inverse of beta
    gamma, root = (3 + math.sqrt(3)) / 6, math.sqrt(3)
    two = uh.Rosenbrock("two", alpha=[[], [2 / root]], gamma=[[gamma], [-4 / root, gamma]], b=[3 / 4, 1 / 4])
    assert (two.order, two.order_with_constraints, two.keeps_constraints) == (3, 2, False)
    # Roche's first terms: f; g_y f; f_y f, f_z g_y f, ...
    assert [len(differential_trees(k)) for k in (1, 2)] == [1, 2]
    assert [len(algebraic_trees(k)) for k in (1, 2)] == [1, 5]
    keep = {each.name for each in all_methods() if getattr(each, "keeps_constraints", False)}
    assert keep == {"sandu-32", "hairer-wanner-43", "steinebach-54", "di-marzo-54"}
    decay = uh.Problem.from_rates(
        lambda t, x, z: [-z, z - x], initial={"x": 1.0, "z": 1.0}, algebraic=["z"], interval=(0, 1)
    )
    with pytest.raises(errors.UnfitProblemError, match="two cannot march"):
        uh.integrate(decay, two, count=9)
