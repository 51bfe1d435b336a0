"""Constraints among written equations: structure, index, starting values, and what runs make of them."""

from __future__ import annotations

import math
import pickle
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from data.literature import REFERENCES
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from representatives import general, representatives
from scipy.optimize import root

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.demo import CONSTRAINED, demo_file
from unhurried_heron.families.family import WITH_CONSTRAINTS
from unhurried_heron.families.registry import family_of
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.model.structure import structure_of
from unhurried_heron.quiet import quietly

# what is written, what is given at the start, the unknowns' index, and closed forms
SOLVED: dict[str, tuple[str, dict[str, float], int, dict[str, Callable[[float], float]]]] = {
    "a cubic": ("x' = -(3*z^2 + 1)*z\nz^3 + z = x", {"x": 2}, 1, {"z": lambda t: math.exp(-t)}),
    "a parameter": ("x' = -(3*z^2 + 1)*z\np = z^3 + z - x", {"x": 2}, 1, {"z": lambda t: math.exp(-t)}),
    "needs itself": ("x' = -(1 + 3*q^2)*q\nq = x - q^3", {"x": 2}, 1, {"q": lambda t: math.exp(-t)}),
    "in a circle": ("x' = -a\na = 2*b\nb = a/3 + x/6", {"x": 1}, 1, {"x": lambda t: math.exp(-t)}),
    "two together": ("x' = z - w\nz + w = x\nz - w = -x", {"x": 1}, 1,
                     {"x": lambda t: math.exp(-t), "z": lambda t: 0.0, "w": lambda t: math.exp(-t)}),
    "one after another": ("x' = -w\nz^3 + z = x\nw = z*(3*z^2 + 1)*v\n0 = v - z/(z + 0*x)", {"x": 2}, 1,
                          {"z": lambda t: math.exp(-t)}),
    "backwards determined": ("x' = -(3*z^2 + 1)*z\nz^3 + z = x", {"z": 1}, 1,
                       {"x": lambda t: math.exp(-t) + math.exp(-3 * t)}),
    "index 2": ("x' = z\ny' = -y + z\nx = cos(t)", {"y": 1}, 2,
                {"z": lambda t: -math.sin(t), "y": lambda t: (math.cos(t) - math.sin(t) + math.exp(-t)) / 2}),
    "too many for one": ("x' = -x + w\n0 = z - 2*x\nz^2 = 4*cos(t)^2", {}, 2,
                         {"w": lambda t: math.cos(t) - math.sin(t)}),
    "index 3": ("x' = u\ny' = v\nu' = -pull*x\nv' = -pull*y\nx^2 + y^2 = 1", {"x": 1, "y": 0, "v": 2}, 3,
                {"x": lambda t: math.cos(2 * t), "v": lambda t: 2 * math.cos(2 * t), "pull": lambda t: 4.0}),
}  # fmt: skip
GUESS = {"backwards determined": {"x": 1}, "too many for one": {"x": 1, "z": 2}, "in a circle": {}}
EVERY = representatives()


def problem_of(name: str, interval: tuple[float, float] = (0, 1)) -> uh.Problem:
    text, initial, _, _ = SOLVED[name]
    values = {"p": 0.0} if "\np =" in text else None
    return uh.Problem.from_text(text, initial=initial, parameters=values, guess=GUESS.get(name), interval=interval)


@pytest.mark.parametrize("name", SOLVED)
@pytest.mark.parametrize("method", EVERY)
def test_every_method_marches_what_is_left(name: str, method: str) -> None:
    problem, (_, _, index, exact) = problem_of(name), SOLVED[name]
    chosen = find_method(method)
    takes = method == "auto" or family_of(chosen).takes_mass(chosen) == WITH_CONSTRAINTS
    rtol = 1e-6 if chosen.order > 1 else 1e-4
    run = uh.integrate(problem, method, rtol=rtol, atol=rtol, record=11)
    for key, form in exact.items():
        assert run[key] == pytest.approx([form(t) for t in run.times.tolist()], abs=200 * rtol), key
    missed = run.constraints
    # what a method solves for in every step holds within the tolerance, what is differentiated to rounding
    assert (missed["missed by"] < (10 * rtol if index == 1 and takes else 1e-14)).all(), missed
    assert run.problem is problem
    assert f"index {index}," in str(uh.check(problem))
    assert len(missed) == problem.first_order().text.count("\n0") == problem.first_order().latex.count("\n0 &=")


FIXED = [each for each in general() if getattr(each, "fixed_steps", True) and each.name != "auto"]


@pytest.mark.parametrize("method", FIXED, ids=lambda each: each.name)
def test_differential_and_algebraic_states_have_the_order(method: Method) -> None:
    problem, truth = problem_of("a cubic"), (math.exp(-1) + math.exp(-3), math.exp(-1))
    errors_seen = []
    for count in (12, 24, 48, 96):
        run = uh.integrate(problem, method, count=count, record=2)
        errors_seen.append(np.abs(run.states[-1] - truth))
    halved = [np.log2(a / b) for a, b in zip(errors_seen, errors_seen[1:], strict=False) if b.min() > 1e-13]
    # where rounding is near, the best pair of steps tells, and of the highest orders that it is
    at_rounding = errors_seen[0].max() < 1e-11
    assert at_rounding or any((seen > method.order - 0.5).all() for seen in halved), (method.order, errors_seen)
    assert errors_seen[-1].max() < 0.1


EXPLICIT = [each for each in general() if isinstance(each, RungeKutta) and not each.implicit]


@pytest.mark.parametrize("method", EXPLICIT, ids=lambda each: each.name)
def test_explicit_methods_solve_constraints_in_every_stage(method: RungeKutta) -> None:
    """One step against the textbook's: rates of the others alone, where constraints hold exactly."""
    x, k, h = np.array([0.3, 1.2]), [], 0.125
    problem = uh.Problem.from_text(
        "x' = -z*y\ny' = w + v^2 - y\nz + z^3 = x + t - w/5\nw^3 = 1 + y*z + v/9\nv + v^3/50 = sin(z*w)/2",
        interval=(0, h), initial={"x": x[0], "y": x[1]}, guess={"z": 0.3, "w": 1, "v": 0.1},
    )  # fmt: skip

    def unknowns(t: float, x: float, y: float) -> np.ndarray:
        def missed(each: np.ndarray) -> list[float]:
            z, w, v = each
            return [z + z**3 - x - t + w / 5, w**3 - 1 - y * z - v / 9, v + v**3 / 50 - math.sin(z * w) / 2]

        return root(missed, [0.3, 1, 0.1], tol=1e-15).x

    def rates(t: float, x: float, y: float) -> list[float]:
        z, w, v = unknowns(t, x, y)
        return [-z * y, w + v * v - y]

    for row, c in zip(method.a, method.c, strict=True):
        shift = sum((float(a) * each for a, each in zip(row, k, strict=False)), start=np.zeros(2))
        k.append(np.array(rates(float(c) * h, *(x + h * shift))))
    x = x + h * np.array(method.b, dtype=float) @ k
    final = uh.integrate(problem, method, count=1).final
    assert [final["x"], final["y"]] == pytest.approx(x, abs=1e-12)
    assert [final[name] for name in "zwv"] == pytest.approx(unknowns(h, *x), abs=1e-12)


@pytest.mark.long
def test_nothing_drifts_over_a_million_steps() -> None:
    circle = uh.Problem.from_text(SOLVED["index 3"][0], initial={"x": 1, "y": 0, "v": 1}, interval=(0, 10_000))
    for method in ("classical-rk-4", "adams-bashforth-4"):
        run = uh.integrate(circle, method, count=1_000_000, record=11)
        assert (run.constraints["missed by"] < 1e-15).all()
        assert run["x"] == pytest.approx(np.cos(run.times), abs=0.01)


@pytest.mark.parametrize("method", ["auto", "radau-iia-5", "backward-differentiation-variable"])
def test_a_conservation_law_is_a_constraint(method: str) -> None:
    """Robertson's problem, its third rate replaced by what is kept, nonlinear so that it is left to the march."""
    truth = REFERENCES["robertson"]["reference"]["40"]
    for law in ("a + b + c = 1", "exp(a + b + c) = e"):
        problem = uh.Problem.from_text(
            f"a' = -0.04*a + 1e4*b*c\nb' = 0.04*a - 1e4*b*c - 3e7*b^2\n{law}",
            initial={"a": 1, "b": 0},
            interval=(0, 40),
        )
        run = uh.integrate(problem, method, rtol=1e-8, atol=1e-14, record=2)
        assert [run[key][-1] for key in "abc"] == pytest.approx([float(each) for each in truth.values()], rel=1e-6)


@pytest.mark.parametrize("rtol", [1e-3, 1e-8])
@pytest.mark.parametrize("method", representatives(lambda each: each.adaptive and getattr(each, "order", 2) > 1))
def test_runs_go_on_and_calls_are_repeated(method: str, rtol: float) -> None:
    """A march meets constraints within its tolerance: what it comes to contradicts none."""
    problem, near = problem_of("a cubic"), {"rel": max(1e-6, 30 * rtol)}
    first, again = (uh.integrate(problem, method, rtol=rtol) for _ in range(2))
    assert np.array_equal(first.states, again.states)
    longer = first.extend(2)
    assert longer["z"][-1] == pytest.approx(math.exp(-2), **near)
    assert longer.problem == problem.with_(interval=(0, 2))
    earlier = uh.integrate(problem.with_(interval=(0.5, 1)), method, rtol=rtol).extend(0)
    assert earlier["z"][0] == pytest.approx(math.exp(0.5), **near)
    assert "The hardest state" in str(uh.explain(first)) or rtol == 1e-8
    assert "no longer ones were seen to fail" in str(uh.largest_step(problem, "heun-2"))


@pytest.mark.parametrize(("name", "over", "why"), [
    ("two together", {"x": [1.0, 2.0, 3.0]}, ""),
    ("a cubic", {"x": [1.0, 2.0, 3.0]}, ""),
    ("a parameter", {"p": [0.0, 0.5, 1.0]}, ""),
    # of one member the constraint has two solutions
    ("a fold", {"x": [5.0, 1.0, 4.0]}, "and not all have one solution"),
    ("backwards determined", {"z": [1.0, 2.0]}, "starting values follow from constraints"),
])  # fmt: skip
@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5", "auto"])
def test_sweeps_find_the_starts_of_all_members(name: str, over: dict[str, Any], why: str, method: str) -> None:
    fold = {"initial": {"x": 5}, "interval": (0, 0.1)}
    problem = uh.Problem.from_text("x' = -z\nz^3 - 3*z = x", **fold) if name == "a fold" else problem_of(name)
    with quietly():
        swept = uh.sweep(problem, over, method, measures="final(x)").dataset
        alone = []
        for value in next(iter(over.values())):
            given = {("parameters" if name == "a parameter" else "initial"): {next(iter(over)): value}}
            try:
                alone.append(uh.integrate(problem, method, record=2, **given).final["x"])
            except errors.ConstraintError:
                alone.append(math.nan)
    np.testing.assert_array_equal(swept["final_x"].values, alone)
    assert all(each.endswith(why) and bool(each) == bool(why) for each in swept["alone"].values.tolist())


WRONG = [
    ("x' = -z\n0 = z - x\n0 = z - 2*x + 1", "too many equations: 2 for 'z'"),
    ("x' = -z*w\n0 = z - x*w", "too few equations: 1 for 'z', 'w'"),
    ("x' = -x\nx^2 = 1", "on states that have rates of their own"),
    ("x' = z\n0 = x - cos(t)\n0 = w - v - x", "too few equations: 1 for 'w', 'v'"),
    ("x' = z\nx = rain", "measured 'rain' would have to be differentiated"),
    ("x' = -z\nz^2 = x", "several solutions at the start"),
    ("x' = -z\nz^2 = -1 - x^2", "no values of 'z' were found"),
    ("x' = -z*floor(z)\nz = x + floor(z)", "constraints"),
]


@pytest.mark.parametrize(("text", "words"), WRONG, ids=[words for _, words in WRONG])
def test_what_constraints_cannot_tell_is_refused_by_name(text: str, words: str) -> None:
    user_input = {"initial": {"x": 1}, "interval": (0, 1), "inputs": {"rain": uh.Measured([0, 1], [1, 2], "previous")}}
    with pytest.raises(errors.ConstraintError, match=words):
        uh.Problem.from_text(text + ("" if "rain" in text else "\nother = rain"), **user_input)


@pytest.mark.parametrize(("initial", "guess", "words"), [
    ({"x": 1, "y": 0.1, "u": 0, "v": 0}, {}, r"x\^2 \+ y\^2 = 1.* holds at t = 0"),
    ({"x": 1, "y": 0, "u": 0.1, "v": 1}, {}, r"0 = 2\*x\*u \+ 2\*y\*v.* holds"),
    ({"x": 1, "y": 0, "v": 1, "pull": 3}, {}, "pull = 1, or none"),
    ({"x": 0.6, "v": 1}, {"y": 1, "u": 0}, None),
    ({"x": 0.6, "v": 1, "u": -4 / 3}, {"y": 1}, None),
    ({"x": 1, "y": 0, "u": 0, "v": 1, "pull": 1}, {}, None),
])  # fmt: skip
def test_starting_values_are_kept_found_or_refused(
    initial: dict[str, float], guess: dict[str, float], words: str | None
) -> None:
    given = {"initial": initial, "guess": guess, "interval": (0, 1)}
    if words:
        with pytest.raises(errors.ConstraintError, match=words):
            uh.Problem.from_text(SOLVED["index 3"][0], **given)
        return
    problem = uh.Problem.from_text(SOLVED["index 3"][0], **given)
    x, y, u, v = problem.start
    assert all(problem.initial[key] == value for key, value in initial.items() if key in problem.states)
    assert abs(x * x + y * y - 1) < 1e-15
    assert abs(x * u + y * v) < 1e-15
    assert pickle.loads(pickle.dumps(problem)) == problem


@settings(max_examples=12, deadline=None, derandomize=True, phases=[Phase.generate])
@given(st.integers(2, 7), st.randoms(use_true_random=False))
@pytest.mark.long
def test_random_networks_begin_where_their_constraints_hold(n: int, random: Any) -> None:
    """Flows along random pipes of a tree: heads at the ends and balances at the inner joints."""
    parents = [random.randrange(k) for k in range(1, n + 1)]
    inner = [k for k in range(1, n + 1) if k in parents]
    lines = [f"h{p} - h{k} = q{k}*(0.1 + abs(q{k}))" for k, p in enumerate(parents, 1)]
    lines += [f"q{k} = " + " + ".join(f"q{j}" for j, p in enumerate(parents, 1) if p == k) for k in inner]
    ends = [0, *(k for k in range(1, n + 1) if k not in inner)]
    first = " - ".join(["0", *(f"q{j}" for j, p in enumerate(parents, 1) if p == 0)])
    lines += [f"h{k}' = " + (f"q{k}" if k else first) for k in ends]
    random.shuffle(lines)
    problem = uh.Problem.from_text("\n".join(lines), initial={f"h{k}": random.random() for k in ends}, interval=(0, 1))
    run = uh.integrate(problem, rtol=1e-8)
    assert (run.constraints["missed by"] < 1e-6).all()
    total = sum(run[f"h{k}"] for k in ends)
    assert np.ptp(total) < 1e-6


@settings(max_examples=200, deadline=None, derandomize=True)
@given(st.lists(st.frozensets(st.sampled_from("abcdef"), max_size=4), max_size=7), st.integers(1, 6))
def test_structure_is_in_order_and_leaves_nothing_out(rows: list[frozenset[str]], count: int) -> None:
    unknowns = list("abcdef"[:count])
    rows = [row & {*unknowns} for row in rows]
    found, determined = structure_of(rows, unknowns), set[str]()
    under = set(found.under.unknowns) if found.under else set()
    for component in found.components:
        determined |= {*component.unknowns}
        assert len(component.equations) == len(component.unknowns)
        # what equations need is determined by then, by them or before them, or never
        assert all(
            rows[k] <= determined | under | {*(found.over.unknowns if found.over else ())} for k in component.equations
        )
    parts = [*found.components, *(each for each in (found.over, found.under) if each)]
    assert sorted(k for each in parts for k in each.equations) == list(range(len(rows)))
    assert sorted(name for each in parts for name in each.unknowns) == unknowns
    assert found.over is None or len(found.over.equations) > len(found.over.unknowns)
    assert found.under is None or len(found.under.unknowns) > len(found.under.equations)


def test_chemistry_in_balance_is_where_the_stiff_one_comes_to() -> None:
    balance, full = (uh.Problem.from_file(demo_file(name)) for name in ("balance", "carbonate"))
    run, stiff = uh.integrate(balance, rtol=1e-9), uh.integrate(full, "radau-iia-9", rtol=1e-9)
    # what is fast takes a four hundredth of an hour at most, in which the gas exchange does not stand still
    for name in ("air", "dioxide", "bicarbonate", "carbonate", "proton", "hydroxide"):
        assert run.final[name] == pytest.approx(stiff.final[name], rel=1e-3)
    assert run.tally.accepted < stiff.tally.accepted / 2


@pytest.mark.parametrize("name", CONSTRAINED)
def test_studies_heed_constraints(name: str, tmp_path: Path) -> None:
    problem = uh.Problem.from_file(demo_file(name))
    problem.to_file(tmp_path / "again.toml")
    assert uh.Problem.from_file(tmp_path / "again.toml") == problem
    run = uh.integrate(problem, rtol=1e-8)
    assert run.ending.as_requested
    certified = uh.certify(problem.with_(interval=(0, problem.interval[1] / 20)), digits=5)
    assert certified.certified
    state = problem.states[0]
    parameter = next(each for each in ("inflow", "stream", "piston") if each in problem.parameters)
    values = [problem.parameters[parameter] * share for share in (0.9, 1.1)]
    swept = uh.sweep(problem, {parameter: values}, measures=f"final({state})")
    alone = [uh.integrate(problem, parameters={parameter: value}, record=2).final[state] for value in values]
    assert swept.dataset[f"final_{state}"].values.tolist() == alone
    assert uh.compare(problem, ["auto", "radau-iia-5"], rtol=1e-5).frame()["error at end"].max() < 1e-2


def test_events_act_and_constraints_hold_again() -> None:
    problem = uh.Problem.from_text(
        "x' = -z\nz^3 + z = x\nu' = v\nw' = s\nv' = -pull*u\ns' = -pull*w\nu^2 + w^2 = 1",
        initial={"x": 2, "u": 1, "w": 0, "v": 0, "s": 1}, interval=(0, 4),
        events=[uh.Event("x = 1", then="x = x + 0.5"), uh.Event("w = 0.5", then=["v = -v", "s = -1.5*s"])],
    )  # fmt: skip
    run = uh.integrate(problem, rtol=1e-9)
    assert {*run.events["name"]} == {"x = 1", "w = 0.5"}
    assert run.constraints["missed by"].max() < 1e-8
    back = run.recorded([float(run.events["time"].iloc[-1]), 4.0])
    assert abs(back["u"] ** 2 + back["w"] ** 2 - 1).max() < 1e-8


@pytest.mark.parametrize("ends", [False, True])
@pytest.mark.parametrize(
    "method", ["auto", "dormand-prince-54", "hairer-wanner-43", "backward-differentiation-variable"]
)
def test_algebraic_states_after_an_event_are_those_that_it_leads_to(method: str, ends: bool) -> None:
    """In its row, where it is the last thing that happens, and where it ends the run."""
    triples = uh.Event(every=2, name="triples", then="k = 3*k", stop_after=2 if ends else None)
    problem = uh.Problem.from_text(
        "x' = -z\n0 = z^3 + z - k*x",
        initial={"x": 2},
        parameters={"k": 1.0},
        interval=(0, 5 if ends else 4),
        events=[triples],
    )
    run = uh.integrate(problem, method, rtol=1e-6)
    assert run.ending.time == 4
    after = run.events
    for k, x, z in [*zip(after["k after"], after["x after"], after["z after"], strict=True),
                    [run.final[name] for name in ("k", "x", "z")]]:  # fmt: skip
        assert z**3 + z == pytest.approx(k * x, rel=1e-4)
    assert run.final["k"] == 9
    assert run.extend(6).final["k"] == 27


@pytest.mark.parametrize("n", [3, 40, 700])
def test_indexed_unknowns_have_constraints_of_their_own(n: int) -> None:
    """Flows between tanks in a row, the first and the last with lines of their own, against what they keep."""
    text = """
    h[1]' = inflow - q[1]
    h[i]' = q[i-1] - q[i] for i in 2..n-1
    h[n]' = q[n-1]
    h[i] - h[i+1] = slow*q[i] + q[i]*abs(q[i]) for i in 2..n-1
    h[1] - h[2] = 2*slow*q[1] + q[1]*abs(q[1])
    level = sum(h[i] for i in 1..n)
    """
    given = {"parameters": {"n": n, "inflow": 0.1, "slow": 0.3}, "initial": {"h": np.linspace(2, 1, n)}}
    problem = uh.Problem.from_text(text, interval=(0, 3), **given)
    assert problem.model.mass is not None
    assert problem.model.mass.constraints(2 * n - 1) == n - 1
    run = uh.integrate(problem, rtol=1e-7, record=5)
    flows, heads = run["q"], run["h"]
    slow = np.where(np.arange(n - 1) == 0, 0.6, 0.3)
    assert np.abs(heads[:, :-1] - heads[:, 1:] - slow * flows - flows * np.abs(flows)).max() < 1e-5
    assert run["level"] == pytest.approx(run["level"][0] + 0.1 * run.times, rel=1e-9)
    with pytest.raises(errors.ConstraintError, match="counts the members of no unknown"):
        uh.Problem.from_text(text + "0 = h[i] - q[i+1] for i in 1..n-2", interval=(0, 3), **given)
    with pytest.raises(errors.NameClashError, match="defined twice"):
        uh.Problem.from_text(text + "h[i] = q[i+1] for i in 1..n-2", interval=(0, 3), **given)
    with pytest.raises(errors.IndexedStateError, match=r"'q\[1\]' is defined twice"):
        uh.Problem.from_text(text + "0 = q[1] - 3", interval=(0, 3), **given)


def test_boundaries_of_indexed_unknowns_have_formulas() -> None:
    """A square of tanks with pipes in both directions and closed walls, against the same by formulas of the flows."""
    walls = "u[0,j] = 0 for j in 1..n\nu[n,j] = 0 for j in 1..n\nv[i,0] = 0 for i in 1..n\nv[i,n] = 0 for i in 1..n\n"
    rates = "h[i,j]' = u[i-1,j] - u[i,j] + v[i,j-1] - v[i,j] for i in 1..n, j in 1..n\n" + walls
    pipes = ("h[i,j] - h[i+1,j] = 2*u[i,j] for i in 1..n-1, j in 1..n\n"
             "0 = v[i,j] - 3*(h[i,j] - h[i,j+1]) for i in 1..n, j in 1..n-1")  # fmt: skip
    plain = ("u[i,j] = (h[i,j] - h[i+1,j])/2 for i in 1..n-1, j in 1..n\n"
             "v[i,j] = 3*(h[i,j] - h[i,j+1]) for i in 1..n, j in 1..n-1")  # fmt: skip
    given = {"parameters": {"n": 5}, "initial": {"h[i,j]": "i + sin(j)"}, "interval": (0, 1)}
    run, other = (
        uh.integrate(uh.Problem.from_text(rates + each, **given), "radau-iia-5", rtol=1e-9, record=3)
        for each in (pipes, plain)
    )
    assert run.states[:, :25] == pytest.approx(other.states, abs=1e-7)
    assert run["u[2,3]"] == pytest.approx((run["h[2,3]"] - run["h[3,3]"]) / 2, abs=1e-8)


def test_multipliers_are_the_forces() -> None:
    """A bead that slides down a straight wire, and two masses on a rod, against what can be worked out by hand."""
    wire = uh.Problem.from_lagrangian(
        "kinetic = m*(x'^2 + y'^2)/2\npotential = m*9.81*y", ["x", "y"], constraints=["y = -0.75*x"],
        parameters={"m": 2}, initial={"x": 0, "x'": 0}, interval=(0, 1),
    )  # fmt: skip
    run = uh.integrate(wire, "dormand-prince-54", rtol=1e-9)
    # along the wire g sin(a), across it m g cos(a), on a gradient of length 1.25
    assert run["x"][-1] == pytest.approx(0.5 * 9.81 * 0.6 * 0.8, rel=1e-8)
    assert run["multiplier_1"] == pytest.approx(np.full(run.times.size, 2 * 9.81 * 0.8 / 1.25), rel=1e-8)
    rod = uh.Problem.from_lagrangian(
        "kinetic = (a'^2 + b'^2 + c'^2 + d'^2)/2\npotential = 0*a", ["a", "b", "c", "d"],
        constraints={"rod": "(a - c)^2 + (b - d)^2 = 4"},
        initial={"a": 1, "b": 0, "c": -1, "d": 0, "a'": 0, "b'": 3, "c'": 0, "d'": -3}, interval=(0, 20),
    )  # fmt: skip
    run = uh.integrate(rod, "verner-98", rtol=1e-10, record=50)
    # each on a circle of radius 1 with speed 3: the rod pulls with 9, by a gradient of length 4
    assert run["rod"] == pytest.approx(np.full(50, -9 / 4), rel=1e-8)
    assert run["a"] == pytest.approx(np.cos(3 * run.times), abs=1e-7)


@pytest.mark.parametrize("guess", [None, -5.0, 30.0])
@pytest.mark.parametrize("n", [1, 3, 300])
def test_starts_that_are_never_negative_are_looked_for_above_zero(n: int, guess: float | None) -> None:
    text = "x[i]' = -z[i] for i in 1..n\n0 = z[i]^2 - z[i] - x[i] for i in 1..n"
    near: dict[str, Any] = {} if guess is None else {"guess": {"z": guess}}
    problem = uh.Problem.from_text(text, parameters={"n": n}, initial={"x[i]": "i*(i + 1)"}, never_negative=["z"],
                                   interval=(0, 1), **near)  # fmt: skip
    assert problem.start[n:] == pytest.approx(2.0 + np.arange(n), rel=1e-12)
    with pytest.raises(errors.ConstraintError, match="no values of 'z'"):
        uh.Problem.from_text("x' = -z\n0 = z^3 + z + x", initial={"x": 1}, never_negative=["z"], interval=(0, 1))


def test_members_of_a_sweep_begin_above_zero() -> None:
    problem = uh.Problem.from_text("x' = -z\n0 = z^2 - k*x", parameters={"k": 1.0}, initial={"x": 1},
                                   never_negative=["z"], interval=(0, 0.5))  # fmt: skip
    found = uh.sweep(problem, {"k": [1.0, 2.0]}, rtol=1e-8)
    # x = (1 - sqrt(k) t/2)^2
    assert found.frame()["final_x"].to_numpy() == pytest.approx((1 - np.sqrt([1.0, 2.0]) / 4) ** 2, rel=1e-6)
