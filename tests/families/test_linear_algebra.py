"""Linear algebra by size and pattern: the same answers from full, banded and sparse factors."""

from __future__ import annotations

import ctypes
import pickle

import numpy as np
import pytest
from representatives import marches_functions, representatives
from scipy.sparse import block_array, csc_array, diags_array, identity, kron, random_array
from scipy.sparse.linalg import splu

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.deadline import done_within
from unhurried_heron.families import (
    elimination_order,
    factorisations,
    large_linear,
    linear,
    linear_choice,
    preconditioned,
)
from unhurried_heron.families.error_scale import ErrorScale, Measure
from unhurried_heron.families.large_linear import LargeSolver
from unhurried_heron.families.linear_choice import Entries, choose_linear
from unhurried_heron.formulas.layout import Group, Layout
from unhurried_heron.kernels.linear_algebra.context import DONE, FAILED, SHIFT, SIGN, UNKNOWN, B, D
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.model.column_colouring import groups_of_columns
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.quiet import quietly

KINDS = ["dense", "banded", "sparse"]
RING = """
u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) + u[i]*(1 - u[i]) for i in 1..40
u[0] = u[40]
u[41] = u[1]
v' = sum(u[m] for m in 1..40)/40 - v
w' = -300*(w - u[3]*v)
"""


def diffusion(n: int) -> uh.Problem:
    """Heat in a rod, whose slowest mode decays alone: u = sin(pi x) exp(-rate t)."""
    text = f"u[i]' = k*(u[i-1] - 2*u[i] + u[i+1]) for i in 1..{n}\nu[0] = 0\nu[{n + 1}] = 0"
    start = np.sin(np.pi * np.arange(1, n + 1) / (n + 1))
    return uh.Problem.from_text(text, initial={"u": start}, parameters={"k": (n + 1.0) ** 2}, interval=(0, 0.1))


@pytest.fixture
def blocks(monkeypatch: pytest.MonkeyPatch) -> None:
    """Full factors in blocks of columns, as large systems have them, for small ones."""
    monkeypatch.setattr(linear, "MIN_BLOCKS", 1)
    monkeypatch.setattr(factorisations, "_COLUMNS", 2)


@pytest.fixture
def ordered(monkeypatch: pytest.MonkeyPatch) -> None:
    """Sparse factors in an order of the unknowns of their own, as dissections bring."""
    order = np.random.default_rng(6).permutation
    monkeypatch.setattr(factorisations, "order_for_factors", lambda matrix, control: order(matrix.shape[0]))


def test_kinds_agree(request: pytest.FixtureRequest) -> None:
    # full rows and columns, several references that meet in one place, and a ring, whose band is found by reordering
    start = np.linspace(0.1, 0.9, 40)
    problem = uh.Problem.from_text(RING, initial={"u": start, "v": 0, "w": 1}, parameters={"k": 50}, interval=(0, 2))
    finals = {}
    # of a problem of its own, because what was laid out once serves again
    loops = uh.integrate(pickle.loads(pickle.dumps(problem)), "radau-iia-5", rtol=1e-7)
    request.getfixturevalue("blocks")
    for kind in KINDS:
        run = uh.integrate(problem, "radau-iia-5", rtol=1e-7, linear=kind)
        assert run.options["linear"] == kind
        finals[kind] = run.states[-1]
    assert finals["dense"] == pytest.approx(loops.states[-1], rel=1e-8)
    assert finals["banded"] == pytest.approx(finals["dense"], rel=1e-8)
    assert finals["sparse"] == pytest.approx(finals["dense"], rel=1e-8)
    # explicit methods have the right answer too, and no linear algebra
    explicit = uh.integrate(problem, "dormand-prince-54", rtol=1e-9)
    assert finals["dense"] == pytest.approx(explicit.states[-1], rel=1e-5)
    assert "linear" not in explicit.options


@pytest.mark.parametrize(("n", "kind"), [(60, "dense"), (150, "banded"), (6000, "banded")])
def test_size_and_pattern_choose(n: int, kind: str) -> None:
    run = uh.integrate(diffusion(n), "radau-iia-5", rtol=1e-6, record=2)
    assert run.options["linear"] == kind
    decay = 4 * (n + 1) ** 2 * np.sin(np.pi / (2 * (n + 1))) ** 2
    if n < 500:
        # fixed steps may have to insist, on full matrices
        assert uh.integrate(diffusion(n), "radau-iia-5", step=0.01).options["linear"] == "dense"
    assert run.states[-1, n // 2] == pytest.approx(run.states[0, n // 2] * np.exp(-0.1 * decay), rel=1e-5)


@pytest.mark.parametrize(("share", "kind"), [(0.05, "sparse"), (0.3, "dense")])
def test_patterns_without_a_band(share: float, kind: str) -> None:
    indices = np.flatnonzero(np.random.default_rng(1).random(300**2) < share)
    assert choose_linear(300, Entries(indices // 300, indices % 300), None, fixed=False) == kind


@pytest.mark.parametrize("kind", [*KINDS, "blocks"])
def test_growth_is_seen_by_the_sign_of_the_determinant(kind: str, request: pytest.FixtureRequest) -> None:
    if kind == "blocks":
        request.getfixturevalue(kind)
        kind = "dense"
    ignition = uh.Problem.from_text(
        "a' = -1e-4*a - 2e4*a*b + 20*b^2\nb' = 1e-4*a + 2e4*a*b - 20*b^2 - b\nc' = b",
        initial={"a": 1, "b": 0, "c": 0}, interval=(0, 10),
    )  # fmt: skip
    run = uh.integrate(ignition, "radau-iia-5", rtol=1e-3, linear=kind)
    assert run.final["a"] < 1e-4


@pytest.mark.parametrize("kind", KINDS)
def test_a_pattern_reduces_the_calls(kind: str) -> None:
    n = 30

    calls = 0

    def rates(t: float, y: np.ndarray) -> np.ndarray:
        nonlocal calls
        calls += 1
        wide = np.concatenate([[1.0], y, [0.0]])
        return 100.0 * (wide[:-2] - 2 * wide[1:-1] + wide[2:]) - y**3

    user_input = {"initial": {"u": np.zeros(n)}, "interval": (0, 1)}
    band = diags_array([np.ones(n), np.ones(n - 1), np.ones(n - 1)], offsets=[0, 1, -1])
    plain = uh.integrate(uh.Problem.from_rates(rates, **user_input), "radau-iia-5")
    sparse = uh.Problem.from_rates(rates, sparsity=band, **user_input)
    calls = 0
    known = uh.integrate(sparse, "radau-iia-5", linear=kind)
    assert calls == known.tally.rate_evaluations
    assert known.final == pytest.approx(plain.final, rel=1e-7)
    # three groups of columns do for a band of three
    assert set(groups_of_columns(n, *band.tocoo().coords).tolist()) == {0, 1, 2}
    jacobians = plain.tally.jacobians
    assert known.tally.rate_evaluations <= plain.tally.rate_evaluations - (n - 3) * jacobians + 20
    stiff = uh.Problem.from_text(
        "x' = -5e3*(x - cos(t)) + y\ny' = x*y/3 - y", initial={"x": 0, "y": 1}, interval=(0, 3)
    )
    # auto hands it to its stiff method, in this run and not in the next
    assert [uh.integrate(stiff, linear=each).options["linear"] for each in ("krylov", kind)] == ["krylov", kind]
    if kind != "dense":
        with pytest.raises(errors.OptionError, match="nonzero"):
            uh.integrate(uh.Problem.from_rates(rates, **user_input), "radau-iia-5", linear=kind)


@pytest.mark.parametrize(
    ("method", "interval"),
    [
        ("radau-iia-5", (0, -0.05)),
        *((each, (0, 0.1)) for each in representatives(lambda m: m.implicit and m.name != "auto" and m.order > 2)),
    ],
)
def test_iterations_do_in_the_place_of_factors(method: str, interval: tuple[float, float]) -> None:
    """States of very different sizes, rates that depend on time, and any preconditioner."""
    problem = uh.Problem.from_text(
        "a' = -400*(a - cos(t)) + 1e6*b\nb' = 1e-6*a*sin(t) - 2*b\nc' = 1e3*a - c",
        initial={"a": 1, "b": 1e-6, "c": 10}, interval=interval,
    )  # fmt: skip
    tolerances = {"rtol": 1e-6, "atol": {"a": 1e-9, "b": 1e-15, "c": 1e-6}}
    factored = uh.integrate(problem, method, **tolerances).states[-1]
    counts = {}
    for wanted in ("none", "incomplete", "cells", splu, lambda matrix: np.linalg.inv(matrix.toarray()).__matmul__):
        run = uh.integrate(problem, method, linear="krylov", preconditioner=wanted, **tolerances)
        assert run.options["linear"] == "krylov"
        assert run.states[-1] == pytest.approx(factored, rel=1e-3)
        assert run.tally.linear_iterations > 0
        counts[run.options["preconditioner"]] = run.tally
    assert list(counts) == ["none", "incomplete", "cells", "splu", "<lambda>"]
    none = counts["none"]
    # products with the Jacobian of written equations are no differences, those of a function are
    assert none.for_jacobians <= none.jacobians
    assert counts["splu"].linear_iterations < none.linear_iterations
    if not marches_functions(find_method(method)):
        return
    by_rates = uh.Problem.from_rates(lambda t, y: problem.rates_at(t, y), initial=problem.initial, interval=interval)
    run = uh.integrate(by_rates, method, linear="krylov", **tolerances)
    assert run.states[-1] == pytest.approx(factored, rel=1e-3)
    assert run.tally.for_jacobians > run.tally.solves


@pytest.mark.long
def test_where_all_states_meet_all_others_products_take_the_place_of_a_matrix(monkeypatch: pytest.MonkeyPatch) -> None:
    """Means of sines pull; the mean itself decays as one number does."""
    monkeypatch.setattr(linear_choice, "MAX_DENSE", 50)
    text = "a[i]' = -mu*sum(a[j] for j in 1..n)/n + sum(sin(a[j] - a[i]) for j in 1..n)/n for i in 1..n"
    values = {"n": 120, "mu": 400.0}
    problem = uh.Problem.from_text(text, parameters=values, initial={"a[i]": "1 + cos(9*i)/4"}, interval=(0, 0.5))
    mean = problem.start.mean() * np.exp(-400.0 * 0.5)
    for method in ("radau-iia-5", "esdirk-43", "auto"):
        run = uh.integrate(problem, method, rtol=1e-6)
        assert run.options["linear"] == "krylov"
        assert run.options["preconditioner"] == "none"
        assert run.tally.linear_iterations > 0
        assert run.tally.fill == 0
        assert run.states[-1].mean() == pytest.approx(mean, abs=1e-6)
    with pytest.raises(errors.MethodError, match="full matrices"):
        uh.integrate(problem, "radau-iia-5", linear="dense")


@pytest.mark.long
def test_a_large_function_without_a_pattern_is_marched_without_a_matrix() -> None:
    n, calls = 5100, 0

    def rates(t: float, u: np.ndarray) -> np.ndarray:
        nonlocal calls
        calls += 1
        if calls == 400:
            raise KeyError("the 400th call")
        wide = np.concatenate([[0.0], u, [0.0]])
        return 30.0 * (wide[:-2] - 2 * wide[1:-1] + wide[2:])

    k = np.arange(1, n + 1)
    start = np.sin(np.pi * k / (n + 1)) + np.sin(np.pi * 3 * n // 4 * k / (n + 1))
    problem = uh.Problem.from_rates(rates, initial={"u": start}, interval=(0, 5))
    for method in ("esdirk-43", "auto"):
        calls = 401
        run = uh.integrate(problem, method, rtol=1e-4, record=2)
        assert run.options["linear"] == "krylov"
        decay = 120.0 * np.sin(np.pi / (2 * (n + 1))) ** 2
        assert run.states[-1] == pytest.approx(np.sin(np.pi * k / (n + 1)) * np.exp(-5 * decay), abs=1e-3)
    calls = 300
    with pytest.raises(KeyError, match="400th"):
        uh.integrate(problem, "esdirk-43", rtol=1e-4)


@pytest.mark.parametrize("where", ["factor", "solve"])
def test_an_exception_comes_through_native_code(where: str, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*arguments: object) -> None:
        raise MemoryError(f"no room to {where}")

    monkeypatch.setattr(factorisations.SparseFactors, where, broken)
    with pytest.raises(MemoryError, match=where):
        uh.integrate(diffusion(5), "radau-iia-5", linear="sparse")


def test_what_does_not_fit_is_refused() -> None:
    large = uh.Problem.from_rates(lambda t, y: -y, initial={"u": np.ones(5001)}, interval=(0, 1))
    with pytest.raises(errors.MethodError, match="5,000"):
        uh.integrate(large, "radau-iia-5", linear="dense")
    with pytest.raises(errors.OptionError, match="no linear systems"):
        uh.integrate(diffusion(5), "dormand-prince-54", linear="dense")
    with pytest.raises(errors.OptionError, match="no such"):
        uh.integrate(diffusion(5), "radau-iia-5", linear="full")


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("shift", [3.0, -0.5 + 2j])
@pytest.mark.parametrize("mass", ["identity", "full", "with constraints"])
@pytest.mark.parametrize("kind", [*KINDS, "blocks", "ordered", "incomplete", "cells"])
def test_factors_and_iterations_solve_any_matrix(
    kind: str, mass: str, shift: complex, seed: int, request: pytest.FixtureRequest
) -> None:
    # small ones are solved with all loops written out
    sizes = (1, 2, 4, 8, 9) if kind == "cells" else (1, 4, 9, 16, 17)
    n, dice, control = sizes[seed], np.random.default_rng(seed), np.zeros(1, CONTROL)
    if kind in ("blocks", "ordered"):
        request.getfixturevalue(kind)
    matrix, wanted = dice.standard_normal((n, n)), dice.standard_normal(n) + 1j * dice.standard_normal(n)
    wanted = wanted if isinstance(shift, complex) else wanted.real
    entries = Entries(*(indices.astype(np.int64) for indices in np.indices((n, n)).reshape(2, -1)))
    # whole numbers, so that products with them have no rounding
    m = np.eye(n) if mass == "identity" else np.round(9 * dice.standard_normal((n, n))) + np.eye(n)
    if mass == "with constraints":
        # rows in no unit of the others
        m[n // 2 :], matrix[n // 2 :] = 0.0, 1e-9 * matrix[n // 2 :]
    of_mass = None if mass == "identity" else MassMatrix(*map(np.ascontiguousarray, np.nonzero(m)), m[np.nonzero(m)])
    named = {"blocks": "dense", "ordered": "sparse", "cells": "incomplete"}.get(kind, kind)
    demand = linear.LinearDemand(n, control, named, entries, of_mass, preconditioner=kind if kind == "cells" else None)
    measure = Measure(np.ones(n), ErrorScale(np.full(n, 1e-3), np.full(n, 1e-6)))
    layout = Layout((Group("u", ((1, (n + 1) // 2),)), *([Group("v", ((1, n // 2),))] if n > 1 else [])))
    solver = linear.linear_solver(demand._replace(measure=measure, layout=layout))
    solver.jacobian.flat = matrix
    context, *_kept = solver.context(isinstance(shift, complex))
    as_doubles = ctypes.c_double * 3
    as_doubles.from_address(int(context[SHIFT]))[:] = shift.real, shift.imag, 1e-11
    native = ctypes.CFUNCTYPE(ctypes.c_int32, *[ctypes.c_void_p] * 2, ctypes.c_int64)
    result, right = ctypes.c_int64(), (shift * m - matrix) @ wanted
    b, d = right.real.copy(), right.imag.copy()
    context[B], context[D] = b.ctypes.data, d.ctypes.data
    for address in (solver.factor, solver.solve):
        assert native(address)(ctypes.addressof(result), ctypes.addressof(ctypes.c_int64()), context.ctypes.data) == 0
        if address == solver.factor:
            sign = np.linalg.slogdet(shift * m - matrix)[0]
            assert context[SIGN] == (UNKNOWN if isinstance(shift, complex) or named == "incomplete" else sign)
        assert result.value == DONE
    assert b + 1j * d == pytest.approx(wanted, rel=1e-9)
    if not isinstance(shift, complex):
        solver.jacobian.flat = shift * m
        native(solver.factor)(ctypes.addressof(result), ctypes.addressof(ctypes.c_int64()), context.ctypes.data)
        assert result.value == FAILED, "a singular matrix has no factors"
        solver.jacobian.flat = matrix
    # a march that is to stop has no factors of compiled code
    control["stop"] = 1
    native(solver.factor)(ctypes.addressof(result), ctypes.addressof(ctypes.c_int64()), context.ctypes.data)
    assert (result.value == FAILED) == (named != "sparse")


@pytest.mark.long
def test_where_incomplete_factors_fail_others_stand_in(monkeypatch: pytest.MonkeyPatch) -> None:
    """Constraints without a diagonal of their own: y is found by the equation of z, and the other way round."""
    n, dice = 340, np.random.default_rng(4)
    mixed = csc_array(sum(identity(n, format="csr")[dice.permutation(n)] for _ in range(3)) / 3)

    def rates(t: float, x: np.ndarray, y: np.ndarray, z: np.ndarray) -> dict[str, np.ndarray]:
        return {"x": y - z - x, "y": z - mixed @ x, "z": y - 2 * x - np.cos(t)}

    each = identity(n)
    pattern = block_array([[each, each, each], [mixed, None, each], [each, each, None]])
    start = np.linspace(0, 1, n)
    problem = uh.Problem.from_rates(
        rates, initial={"x": start, "y": 2 * start + 1, "z": mixed @ start}, interval=(0, 2),
        sparsity=pattern, mass=np.repeat([1.0, 0.0, 0.0], n),
    )  # fmt: skip
    exact = uh.integrate(problem, "esdirk-43", rtol=1e-5, linear="sparse").states[-1]
    for affordable in (True, False):
        monkeypatch.setattr(preconditioned, "affordable", lambda matrix, control, it=affordable: it)
        run = uh.integrate(problem.with_(title=str(affordable)), "esdirk-43", rtol=1e-5)
        assert run.options["preconditioner"] == "incomplete"
        assert run.states[-1] == pytest.approx(exact, rel=1e-3)
        assert (run.tally.linear_iterations == 0) == affordable
        assert run.options["stood_in"] == ("sparse factors" if affordable else "incomplete factors with fill-in")
        assert f"{run.options['stood_in']} stood in" in " ".join(str(run).split())
        # another run is no other for it
        assert uh.integrate(run.problem, "esdirk-43", rtol=1e-5).tally.factorisations == run.tally.factorisations
    # what was asked for by name has nothing to stand in
    with quietly():
        run = uh.integrate(problem, "esdirk-43", rtol=1e-5, preconditioner="incomplete")
    assert not run.ending.as_requested


@pytest.mark.parametrize("kind", ["grid", "random", "space"])
def test_fill_is_told_before_factors_are_made(kind: str) -> None:
    if kind != "random":
        n = 30 if kind == "grid" else 20
        line = diags_array([np.ones(n - 1), np.full(n, -4.0), np.ones(n - 1)], offsets=[-1, 0, 1])
        matrix = csc_array(kron(identity(n), line) + kron(line, identity(n)))
        if kind == "space":
            matrix = csc_array(kron(identity(n), matrix) + kron(line, identity(n * n)))
    else:
        matrix = csc_array(random_array((500, 500), density=0.01, rng=np.random.default_rng(2)) + 9 * identity(500))
    control = np.zeros(1, CONTROL)
    made = splu(matrix, **elimination_order.FROM_DIAGONAL)
    order, fill, _ = elimination_order.elimination(matrix, 10**9, control)
    assert (order is None) == (kind != "space")
    if order is not None:
        # a dissection leaves less than minimum degree
        assert 2 * fill < 0.9 * made.nnz
        made = splu(csc_array(matrix[order][:, order]), **elimination_order.FROM_DIAGONAL | {"permc_spec": "NATURAL"})
    # a pattern that is not symmetric has at most what the symmetric one around it has
    assert 0.99 * made.nnz <= 2 * fill <= (1.5 if kind == "random" else 1.0) * made.nnz
    assert elimination_order.elimination(matrix, 3000, control).fill > 3000
    assert elimination_order.affordable(matrix, control)
    with done_within(1e-9):
        assert not elimination_order.affordable(matrix, control)


class Wavering:
    """Solutions that are no better than they must be, no sign of a determinant, and now and then none at all."""

    def __init__(self, n: int, kind: type, tolerances: list[float]) -> None:
        self.n, self.kind, self.tolerances, self.noise = n, kind, tolerances, np.random.default_rng(3)

    def factor(self, shifts: np.ndarray, values: np.ndarray) -> int | None:
        self.matrix = np.diag(shifts) - values
        return UNKNOWN

    def solve(self, right: np.ndarray, tolerance: float) -> np.ndarray | None:
        self.tolerances.append(tolerance)
        if len(self.tolerances) % 90 == 89:
            return None
        error = 0.3 * tolerance * self.noise.uniform(-1, 1, self.n)
        return np.linalg.solve(self.matrix, right) * (1 + error)


@pytest.mark.parametrize("method", representatives(lambda m: m.implicit and m.name != "auto"))
def test_solutions_may_miss_and_signs_be_unknown(method: str, monkeypatch: pytest.MonkeyPatch) -> None:
    problem = uh.Problem.from_text(
        "x' = -50*(x - cos(t)) + y\ny' = -y + x*y/3", initial={"x": 0, "y": 1}, interval=(0, 3)
    )
    exact, tolerances = uh.integrate(problem, "radau-iia-9", rtol=1e-11).states[-1], []
    each = np.arange(2)
    identity = MassMatrix(each, each, np.ones(2))
    wavering = LargeSolver(2, lambda kind: Wavering(2, kind, tolerances), identity)
    monkeypatch.setattr(large_linear, "full_solver", lambda n, control, mass: wavering)
    monkeypatch.setattr(linear, "MIN_BLOCKS", 1)
    rtol = 1e-5 if find_method(method).order > 1 else 1e-3
    run = uh.integrate(problem.with_(title="of its own"), method, rtol=rtol)
    assert run.ending.reason == "end"
    assert run.states[-1] == pytest.approx(exact, rel=300 * rtol)
    assert len(tolerances) > 90
    assert 0.0 < max(tolerances) < 0.1
    # a step without a solution was refused
    assert run.tally.refused > 0
