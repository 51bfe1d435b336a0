"""Problems M y' = f(t, y) against closed forms: every method that takes M, constraints, linear algebra, events."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from representatives import representatives
from scipy.linalg import expm
from scipy.sparse import csr_array

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.families.family import NO_MASS, WITH_CONSTRAINTS
from unhurried_heron.families.registry import family_of
from unhurried_heron.methods.catalogue import all_methods, find_method
from unhurried_heron.methods.rosenbrock import ROSENBROCK
from unhurried_heron.quiet import quietly

Exact = Callable[[float], Any]


def takes(method: Any, *, constraints: bool = False) -> bool:
    """Whether a method takes a mass matrix; auto takes those of the method it chooses."""
    found = family_of(method).takes_mass(method)
    return method.name == "auto" or found == WITH_CONSTRAINTS or (found != NO_MASS and not constraints)


def mixed(interval: tuple[float, float]) -> tuple[uh.Problem, Exact]:
    """M (A y) on three states, M full, the diagonal none of its larger entries."""
    m = np.array([[0.1, 4.0, -1.0], [3.0, 0.2, 0.5], [1.0, -1.0, 0.3]])
    a = np.array([[-1.0, 0.4, 0.0], [-0.4, -1.0, 0.2], [0.3, 0.0, -2.0]])
    start = {"a": 1.0, "b": -0.5, "c": 2.0}
    problem = uh.Problem.from_rates(lambda t, y: m @ a @ y, initial=start, interval=interval, mass=m)
    return problem, lambda t: expm(a * (t - interval[0])) @ list(start.values())


def logistic(interval: tuple[float, float]) -> tuple[uh.Problem, Exact]:
    """X' = x - z with z = x^2, the constraint as the first equation: x is logistic."""
    problem = uh.Problem.from_rates(
        lambda t, z, x: [1e3 * (x**2 - z), 2 * (x - z)], initial={"z": 0.01, "x": 0.1}, interval=interval,
        mass=[[0, 0], [0, 2]],
    )  # fmt: skip

    def exact(t: float) -> list[float]:
        x = 1.0 / (1.0 + 9.0 * math.exp(interval[0] - t))
        return [x * x, x]

    return problem, exact


def shared(interval: tuple[float, float]) -> tuple[uh.Problem, Exact]:
    """(x + 2 z)' of the time and a constraint between the two, neither of which M knows alone."""

    def rates(t: float, x: float, z: float) -> list[float]:
        return [math.cos(t) - x - 2 * z, math.sin(2 * t) - x + z]

    def exact(t: float) -> list[float]:
        w = (math.sin(t) + math.cos(t)) / 2 + math.exp(interval[0] - t) * (0.3 - sum(at_start) / 2)
        z = (w - math.sin(2 * t)) / 3
        return [w - 2 * z, z]

    at_start = math.sin(interval[0]), math.cos(interval[0])
    z0 = (0.3 - math.sin(2 * interval[0])) / 3
    problem = uh.Problem.from_rates(
        rates, initial={"x": 0.3 - 2 * z0, "z": z0}, interval=interval, mass=csr_array([[1.0, 2.0], [0.0, 0.0]])
    )
    return problem, exact


def is_explicit(method: Any) -> bool:
    """Whether a method solves the constraints of a function in every stage."""
    return not (method.implicit or takes(method) or method.family.startswith("partitioned"))


EACH = [(each.name, (0.5, 2.5)) for each in all_methods() if takes(each)]
BOTH_WAYS = [*representatives(takes), *representatives(is_explicit)]


@pytest.mark.parametrize("made", [mixed, logistic, shared])
@pytest.mark.parametrize(
    ("method", "interval"),
    [
        *EACH,
        *((name, (0.5, 2.5)) for name in representatives(is_explicit)),
        *((name, (0.5, -1.0)) for name in BOTH_WAYS),
    ],
)
def test_every_method_that_takes_it_has_its_order(method: str, made: Any, interval: tuple[float, float]) -> None:
    chosen, (problem, exact) = find_method(method), made(interval)
    if made is not mixed and not takes(chosen, constraints=True) and not (made is logistic and is_explicit(chosen)):
        with pytest.raises(errors.UnfitProblemError, match="1 of its 2 equations is a constraint"):
            uh.integrate(problem, chosen, **({} if chosen.adaptive else {"count": 3}))
        return
    if made is mixed and is_explicit(chosen):
        with pytest.raises(errors.UnfitProblemError, match="it has a mass matrix"):
            uh.integrate(problem, chosen, **({} if chosen.adaptive else {"count": 3}))
        return
    size = np.abs(exact(interval[1])).max()

    def error(**options: Any) -> float:
        run = uh.integrate(problem, chosen, **options)
        assert run.ending.as_requested
        between = interval[0] + 0.37 * (interval[1] - interval[0])
        assert run.at(between).tolist() == pytest.approx(exact(between), abs=1e3 * options.get("rtol", 1e-2) * size)
        return float(np.abs(run.states[-1] - exact(interval[1])).max() / size)

    if chosen.adaptive:
        rtol = 1e-6 if chosen.order > 2 else 1e-3
        assert error(rtol=rtol, atol=1e-3 * rtol) < 20 * rtol
    if getattr(chosen, "fixed_steps", True):
        errors_seen = [error(count=n) for n in (8, 16, 32, 64, 128)]
        order = find_method(method).order if method != "auto" else 5
        halved = [math.log2(a / b) for a, b in zip(errors_seen, errors_seen[1:], strict=False) if b > 3e-12]
        assert not halved or max(halved) > order - (0.4 if order < 6 else 0.8), errors_seen


def slab(n: int, **options: Any) -> tuple[uh.Problem, np.ndarray]:
    """Heat in linear finite elements, whose sine decays at a known rate, and a sum of its values as a constraint."""
    h, x = 1.0 / (n + 1), np.linspace(0, 1, n + 2)[1:-1]
    stiffness = (2 * np.eye(n) - np.eye(n, k=1) - np.eye(n, k=-1)) / h
    mass = np.zeros((n + 1, n + 1))
    mass[:n, :n] = h / 6 * (4 * np.eye(n) + np.eye(n, k=1) + np.eye(n, k=-1))
    pattern = mass != 0
    pattern[n, n], pattern[n, n - 3 : n] = True, True

    def rates(t: float, u: np.ndarray, total: float) -> tuple[np.ndarray, float]:
        return -stiffness @ u, u[-3:].sum() - total

    start = np.sin(np.pi * x)
    rate = 6 / h**2 * (1 - math.cos(math.pi * h)) / (2 + math.cos(math.pi * h))
    given = {"u": start, "total": float(start[-3:].sum())}
    problem = uh.Problem.from_rates(rates, initial=given, interval=(0, 0.2), mass=mass, sparsity=pattern)
    return problem, np.append(start, start[-3:].sum()) * math.exp(-0.2 * rate)


@pytest.mark.parametrize("linear", ["dense", "banded", "sparse", "krylov"])
@pytest.mark.parametrize("method", representatives(lambda each: takes(each, constraints=True) and each.order > 2))
def test_every_linear_algebra_solves_with_it(method: str, linear: Any) -> None:
    problem, expected = slab(40)
    run = uh.integrate(problem, method, rtol=1e-6, linear=None if method == "auto" else linear)
    assert run.states[-1] == pytest.approx(expected, rel=1e-4)
    by_factors = uh.integrate(problem, method, rtol=1e-6).tally
    assert run.tally.accepted + run.tally.refused < 1.5 * (by_factors.accepted + by_factors.refused) + 10


def test_a_large_one_takes_what_fits() -> None:
    problem, expected = slab(400)
    run = uh.integrate(problem, rtol=1e-5)
    assert run.options["linear"] == "banded"
    assert run.states[-1] == pytest.approx(expected, rel=1e-3)
    problem, expected = slab(1100)
    run = uh.integrate(problem, rtol=1e-5)
    assert run.method == "backward-differentiation-variable"
    assert run.states[-1] == pytest.approx(expected, rel=1e-3)


@pytest.mark.parametrize("method", representatives(lambda each: takes(each, constraints=True) and each.order > 2))
def test_constraints_hold_again_beyond_what_changes_states(method: str) -> None:
    def rates(t: float, x: float, z: float, gain: float) -> list[float]:
        return [-z if t < 1 else gain * z, z - x**3 - x]

    events = [
        uh.Event("x = 0.5", "dips", then="x = x + 0.4", at_most=2),
        uh.Event("t = 1.5", "turns", then="gain = -2"),
    ]
    problem = uh.Problem.from_rates(
        rates, initial={"x": 1.0, "z": 2.0}, parameters={"gain": 1.0}, interval=(0, 2), mass=[1, 0],
        switches=["t = 1"], events=events,
    )  # fmt: skip
    run = uh.integrate(problem, method, rtol=1e-8, atol=1e-10)
    times = np.linspace(0, 2, 301)
    x, z = run.at(times, "x"), run.at(times, "z")
    assert z == pytest.approx(x**3 + x, abs=2e-6)

    def passed(x0: float, gain: float, t: float) -> float:
        # of x' = gain (x + x^3): x^2/(1 + x^2) grows by exp(2 gain t)
        part = x0**2 / (1 + x0**2) * math.exp(2 * gain * t)
        return math.sqrt(part / (1 - part))

    dip = math.log(0.5 / 0.2) / 2
    again = dip + math.log(0.81 / 1.81 / 0.2) / 2
    assert run.events["time"].to_list() == pytest.approx([dip, again, 1.5], abs=1e-6)
    at_switch = passed(0.9, -1.0, 1.0 - again)
    at_turn = passed(at_switch, 1.0, 0.5)
    assert run.final["x"] == pytest.approx(passed(at_turn, -2.0, 0.5), rel=1e-5)


@pytest.mark.parametrize("interval", [(0, 5), (0, -5)])
@pytest.mark.parametrize("method", representatives(lambda each: takes(each, constraints=True) and each.order > 1))
def test_growth_from_below_the_tolerance_is_followed(method: str, interval: tuple[float, float]) -> None:
    sign = math.copysign(1.0, interval[1])
    problem = uh.Problem.from_rates(
        lambda t, x, z, rest: [sign * z, 3 * x - z, sign * (math.cos(t) - rest)],
        initial={"x": 1e-9, "z": 3e-9, "rest": 0.5}, interval=interval, mass=[[1, 0, 0], [0, 0, 0], [0, 0, 1]],
    )  # fmt: skip
    run = uh.integrate(problem, method, rtol=1e-4)
    assert run.final["x"] == pytest.approx(1e-9 * math.exp(15), rel=0.05)


@pytest.mark.parametrize("step", [40, 4])
@pytest.mark.parametrize("method", [each.name for each in all_methods()
                                    if takes(each, constraints=True) and each.family != ROSENBROCK])  # fmt: skip
def test_a_fixed_step_is_that_of_the_problem_without_the_constraint(method: str, step: float) -> None:
    if not getattr(find_method(method), "fixed_steps", True):
        pytest.skip("takes no fixed steps")
    given: dict[str, Any] = {"interval": (0, 400)}
    plain = uh.Problem.from_text("x' = -x^4", initial={"x": 1.0}, **given)
    constrained = uh.Problem.from_rates(
        lambda t, x, z: [-z, z - x**4], initial={"x": 1.0, "z": 1.0}, mass=[1, 0], **given
    )
    with quietly():
        wanted, found = (
            uh.integrate(each, "radau-iia-9" if method == "auto" else method, step=step)
            for each in (plain, constrained)
        )
    assert found.ending.reason == wanted.ending.reason
    assert found["x"] == pytest.approx(wanted["x"], abs=1e-11)
    assert found["z"] == pytest.approx(wanted["x"] ** 4, abs=1e-11)


def test_complex_states_have_theirs_by_state_or_part() -> None:
    def rates(t: float, z: complex, w: complex) -> list[complex]:
        return [2j * z, z - w]

    runs = [
        uh.integrate(
            uh.Problem.from_rates(rates, initial={"z": 1 + 0j, "w": 1 + 0j}, interval=(0, 1), mass=mass), rtol=1e-9
        )
        for mass in ([2, 0], [2, 2, 0, 0])
    ]
    for run in runs:
        assert [run.final["z"], run.final["w"]] == pytest.approx([np.exp(1j)] * 2, abs=1e-7)


@pytest.mark.long
def test_what_is_told_of_such_a_problem_heeds_it() -> None:
    problem, exact = logistic((0.0, 6.0))
    assert np.sort(problem.eigenvalues_at(0.0, [0.01, 0.1])) == pytest.approx([0.8, np.nan], nan_ok=True)
    certificate = uh.certify(problem, digits=8)
    assert certificate.certified
    assert [row["computed"] for row in certificate.rows] == pytest.approx(exact(6.0), rel=1e-9)
    table = uh.compare(problem, "all", rtol=1e-4)
    assert all(row["largest error"] < 1e-2 for row in table.rows)
    assert {row["method"] for row in table.rows} == {
        each.name for each in all_methods() if each.adaptive and takes(each, constraints=True)
    }
    assert "chose all" in str(uh.explain(uh.integrate(problem)))
    assert "1 row of zeros, which are constraints: auto takes an implicit method" in " ".join(
        str(uh.check(problem)).split()
    )
    assert "with a mass matrix, 2 rows, 1 of zeros: constraints" in str(problem)
    with pytest.raises(errors.OptionError, match="constraints leave no direction field"):
        uh.draw_field(problem, window=[(0, 1), (0, 1)])


@pytest.mark.parametrize(
    ("changed", "message"),
    [
        ({"mass": [1, 0, 1]}, "not usable"),
        ({"mass": "one"}, "not usable"),
        ({"mass": [1j, 0]}, "not usable"),
        ({"mass": [np.nan, 0]}, "no number"),
        ({"mass": np.zeros((2, 2))}, "nothing says how anything changes"),
        ({"mass": [[1, 1], [2, 2]]}, "depend on each other"),
    ],
)
def test_what_is_no_mass_matrix_is_refused(changed: dict[str, Any], message: str) -> None:
    with pytest.raises(errors.ValueGivenError, match=message):
        logistic((0, 1))[0].with_(**changed)


def test_constraints_that_determine_nothing_are_refused() -> None:
    for rates in (lambda t, x, z: [z, x - np.sin(t)], lambda t, x, z: [-x, 0 * z], lambda t, x, z: [x, x - 2]):
        problem = uh.Problem.from_rates(rates, initial={"x": 0.0, "z": 1.0}, interval=(0, 3), mass=[1, 0])
        for _ in range(2):
            with pytest.raises(errors.UnfitProblemError, match="do not determine 'z'"):
                uh.integrate(problem)


def test_a_start_that_misses_a_constraint_is_refused() -> None:
    problem = logistic((0, 1))[0].with_(initial={"z": 0.02})
    for options in ({"method": "auto"}, {"method": "backward-euler", "count": 5}, {"method": "radau-iia-variable"}):
        with pytest.raises(errors.ValueGivenError, match=r"'z' begins -0\.01 from where it would hold"):
            uh.integrate(problem, **options)
    with pytest.raises(errors.OptionError, match="closed forms start no problem"):
        uh.integrate(
            logistic((0, 1))[0].with_(exact={"x": "1/(1 + 9*exp(-t))"}), "backward-differentiation-2", count=5,
            starter="exact",
        )  # fmt: skip
    with pytest.raises(errors.UnfitProblemError, match="gauss-4"):
        uh.integrate(logistic((0, 1))[0], "backward-differentiation-2", count=5, starter="gauss-4")
