"""Partitioned methods: energies that do not drift, parts found in equations, and what is refused."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.methods.partitioned import PARTITIONED, Partitioned
from unhurried_heron.model.partition import Partition, partition_of

METHODS = [method.name for method in all_methods() if method.family == PARTITIONED]
FLOAT = uh.Problem.from_hamiltonian(
    "hamiltonian = p^2/2 + 1 - cos(z)", {"z": "p"}, initial={"z": 1.2, "p": 0.0}, interval=(0, 4000)
)


@pytest.mark.parametrize("method", METHODS)
def test_the_energy_of_a_long_run_does_not_drift(method: str) -> None:
    run = uh.integrate(FLOAT, method, step=0.2, record=4001)
    error = np.abs(run["hamiltonian"] - run["hamiltonian"][0])
    early, late = error[:400].max(), error[-400:].max()
    assert late < 3 * early + 1e-12


def test_the_energy_of_another_method_drifts() -> None:
    run = uh.integrate(FLOAT, "classical-rk-4", step=0.2, record=4001)
    error = np.abs(run["hamiltonian"] - run["hamiltonian"][0])
    assert error[-400:].max() > 5 * error[:400].max()


@pytest.mark.parametrize("method", [name for name in METHODS if name != "symplectic-euler-1"])
def test_symmetric_methods_retrace_their_steps(method: str) -> None:
    there = uh.integrate(FLOAT, method, count=200, interval=(0, 20))
    back = uh.integrate(
        FLOAT, method, count=200, interval=(20, 0), initial={name: there.final[name] for name in ("z", "p")}
    )
    assert back.states[-1] == pytest.approx(FLOAT.start, abs=1e-12)


def test_parts_are_found_in_equations_and_patterns() -> None:
    def parts(equations: str, **given: object) -> Partition | str:
        names = sorted({line.partition("'")[0] for line in equations.splitlines()})
        initial = given or dict.fromkeys(names, 1.0)
        return partition_of(uh.Problem.from_text(equations, initial=initial, interval=(0, 1)).model)

    first = parts("v' = -x\nx' = v")
    assert isinstance(first, Partition)
    assert (first.first.tolist(), first.second.tolist(), first.second_order) == ([0], [1], False)
    motion = parts("x' = v\nv' = -x^3")
    assert isinstance(motion, Partition)
    assert motion.second_order
    swapped = parts("x' = sin(v)\nv' = -x\nt0' = 1")
    assert isinstance(swapped, Partition)
    assert (swapped.first.tolist(), swapped.second.tolist(), swapped.second_order) == ([0], [1, 2], False)
    lattice = parts("u[i]' = u[i-1] - u[i+1] for i in 2..7\nu[1]' = -u[2]\nu[8]' = u[7]", **{"u[i]": 1.0})
    assert isinstance(lattice, Partition)
    assert lattice.first.tolist() == [0, 2, 4, 6]
    assert "the rate of 'x' depends on 'x' itself" in parts("x' = v - x\nv' = x")
    assert "depend on each other's part" in parts("x' = y\ny' = z\nz' = x")
    unknown = uh.Problem.from_rates(lambda t, x, v: [v, -x], initial={"x": 1, "v": 0}, interval=(0, 1))
    with pytest.raises(errors.UnfitProblemError, match="sparsity=… says it"):
        uh.integrate(unknown, "stormer-verlet-2", count=5)
    with pytest.raises(errors.UnfitProblemError, match="equations of second order"):
        uh.integrate(uh.Problem.from_text("x' = sin(v)\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 1)),
                     "blanes-moan-nystrom-4", count=5)  # fmt: skip
    with pytest.raises(uh.MethodError, match="no error estimate"):
        uh.integrate(FLOAT, "stormer-verlet-2", rtol=1e-3)


@pytest.mark.parametrize("method", [name for name in METHODS if "nystrom" not in name])
def test_loops_functions_and_equations_march_alike(method: str) -> None:
    """A lattice whose loop is in both parts, its equations one by one, and a function of it."""
    n = 8
    start = np.cos(np.arange(n))
    loop = uh.Problem.from_text(
        f"u[i]' = u[i-1] - sin(u[i+1])*cos(t) for i in 2..{n - 1}\nu[1]' = -u[2]\nu[{n}]' = u[{n - 1}]",
        initial={"u[i]": "cos(i - 1)"}, interval=(0, 3),
    )  # fmt: skip
    single = [f"u{i}' = u{i - 1} - sin(u{i + 1})*cos(t)" for i in range(2, n)]
    apart = uh.Problem.from_text(
        "\n".join(["u1' = -u2", *single, f"u{n}' = u{n - 1}"]),
        initial={f"u{i + 1}": value for i, value in enumerate(start)}, interval=(0, 3),
    )  # fmt: skip

    def rates(t: float, u: np.ndarray) -> np.ndarray:
        inner = u[:-2] - np.sin(u[2:]) * np.cos(t)
        return np.concatenate([[-u[1]], inner, [u[-2]]])

    beside = np.abs(np.subtract.outer(range(n), range(n))) == 1
    function = uh.Problem.from_rates(rates, initial={"u": start}, interval=(0, 3), sparsity=beside)
    found = [uh.integrate(each, method, count=30).states[-1] for each in (loop, apart, function)]
    assert found[1] == pytest.approx(found[0], abs=1e-13)
    assert found[2] == pytest.approx(found[0], abs=1e-13)


def test_methods_of_ones_own_are_checked() -> None:
    leap = Partitioned("leap", [("drift", "1/2"), ("kick", 1), ("drift", "1/2")], order=2)  # type: ignore[arg-type]  # a list does as well
    other = uh.integrate(FLOAT, "stormer-verlet-2", step=0.05, interval=(0, 10)).states[-1]
    assert uh.integrate(FLOAT, leap, step=0.05, interval=(0, 10)).states[-1] == pytest.approx(other, abs=1e-3)
    assert uh.stability(leap).region.imaginary == pytest.approx(2.0, abs=1e-9)
    for sequence, words in (
        ([("drift", 1)], "drifts and kicks are needed"),
        ([("drift", 1), ("kick", 0.9)], "shares of a kick do not add up to 1"),
        ([1, 2], "no turns"),
    ):
        with pytest.raises(uh.MethodError, match=words):
            Partitioned("wrong", sequence, order=1)  # type: ignore[arg-type]  # the mistakes
    with pytest.raises(errors.MethodError, match=r"at most 2, the order for y'' = -y"):
        Partitioned("wrong", (("drift", "1/2"), ("kick", 1), ("drift", "1/2")), order=3)


def test_a_step_that_is_not_finite_is_told() -> None:
    problem = uh.Problem.from_text("x' = v\nv' = x^3", initial={"x": 1.0, "v": 1.0}, interval=(0, 50))
    with pytest.warns(uh.IncompleteRunWarning):
        run = uh.integrate(problem, "stormer-verlet-2", step=0.5)
    assert run.ending.reason == "not finite"
