"""Large systems: what `auto` takes for them, and budgets that are used up before a march begins."""

import itertools

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.deadline import OutOfTimeError, check_deadline, done_within, not_counted
from unhurried_heron.families.preconditioned import _cells_of

N = 40
# on a grid with u = 0 around it, sin(pi i/(n + 1)) sin(pi j/(n + 1)) decays at this rate, D = 1
DECAY = 8 * (N + 1) ** 2 * np.sin(np.pi / 2 / (N + 1)) ** 2
HILL = np.outer(*2 * [np.sin(np.pi * np.arange(1, N + 1) / (N + 1))])
WALLS = "\n".join(f"{name}[{number}] = 0 for {index} in 1..n" for name in "uv"
                  for number, index in (("0,j", "j"), ("n+1,j", "j"), ("i,0", "i"), ("i,n+1", "i")))  # fmt: skip


def diffusing(name: str, more: str) -> str:
    neighbours = f"{name}[i-1,j] + {name}[i+1,j] + {name}[i,j-1] + {name}[i,j+1] - 4*{name}[i,j]"
    return f"{name}[i,j]' = (n+1)^2*({neighbours}){more} for i in 1..n, j in 1..n"


def turning(rate: float) -> uh.Problem:
    """Two fields that diffuse and turn into each other: exp(-DECAY t) (cos, sin)(rate t) times the hill."""
    text = f"{diffusing('u', ' - w*v[i,j]')}\n{diffusing('v', ' + w*u[i,j]')}\n{WALLS}"
    start = {"u": HILL.tolist(), "v": 0}
    return uh.Problem.from_text(text, initial=start, parameters={"n": N, "w": rate}, interval=(0, 0.1))


@pytest.mark.parametrize(
    ("rate", "rtol", "taken"),
    [
        (0.0, 1e-4, "runge-kutta-chebyshev-4"),
        (0.0, 1e-8, "runge-kutta-chebyshev-4"),
        (0.0, 1e-11, "differentiation"),
        (5e3, 1e-4, "differentiation"),
    ],
)
def test_auto_stretches_steps_where_modes_only_decay(rate: float, rtol: float, taken: str) -> None:
    run = uh.integrate(turning(rate), rtol=rtol, record=2)
    assert taken in run.method_selection
    size, angle = np.exp(-DECAY * 0.1), rate * 0.1
    found = run["u"][-1], run["v"][-1]
    for values, exact in zip(found, (size * np.cos(angle), size * np.sin(angle)), strict=True):
        assert np.abs(values - exact * HILL).max() < 30 * rtol


def test_large_systems_that_only_decay_begin_stabilised() -> None:
    """And go on by another method where what is stiff has passed; a second run of the same problem does the same."""
    text = (
        "u[i,j]' = k*(u[i-1,j] + u[i+1,j] + u[i,j-1] + u[i,j+1] - 4*u[i,j]) for i in 1..n, j in 1..n\n"
        "u[0,j] = 0 for j in 1..n\nu[n+1,j] = 0 for j in 1..n\nu[i,0] = 0 for i in 1..n\nu[i,n+1] = 0 for i in 1..n\n"
    )
    n = 142
    hill = np.outer(*2 * [np.sin(np.pi * np.arange(1, n + 1) / (n + 1))])
    problem = uh.Problem.from_text(
        text, initial={"u": hill.tolist()}, parameters={"n": n, "k": (n + 1.0) ** 2}, interval=(0, 0.05)
    )
    decay = 8 * (n + 1) ** 2 * np.sin(np.pi / 2 / (n + 1)) ** 2
    for _ in range(2):
        run = uh.integrate(problem, rtol=1e-4, record=2)
        assert run.method_selection.startswith("took runge-kutta-chebyshev-4")
        assert "stiff from t = 0" in run.method_selection
        assert np.abs(run["u"][-1] - np.exp(-0.05 * decay) * hill).max() < 3e-4
    # what moves, what is looked at closely and what is marched on a line begins as it did
    turns = problem.with_(equations=text.replace("(u[i-1,j]", "(1 + sin(t))*(u[i-1,j]"))
    for other, rtol in ((problem, 1e-7), (turns, 1e-4)):
        assert uh.integrate(other, rtol=rtol, record=2).method_selection.startswith(("took dormand", "took verner"))
    # who names linear algebra gets it
    run = uh.integrate(turning(0.0), rtol=1e-4, record=2, preconditioner="cells")
    assert run.options["preconditioner"] == "cells"
    assert "differentiation" in run.method_selection


def test_of_deadlines_within_one_another_the_earliest_counts() -> None:
    with done_within(1e-9), done_within(60), pytest.raises(OutOfTimeError):
        check_deadline()
    with done_within(None):
        check_deadline()
    with done_within(60), not_counted():
        check_deadline()


def test_a_budget_that_is_used_up_before_the_march_begins() -> None:
    problem = uh.Problem.from_text("x' = y\ny' = -x", initial={"x": 1, "y": 0}, interval=(0, 10))
    events = [uh.Event(f"x = {k}/500") for k in range(500)]
    for options in ({}, {"record": 5}, {"ledger": False}):
        run = uh.integrate(problem, events=events, budget=uh.Budget(seconds=1e-7), **options)
        assert run.ending.reason == "budget"
        assert (run.times[-1], run.final["x"], run.tally.accepted) == (0.0, 1.0, 0)
        assert len(run.frame()) == 1
    acting = uh.Event(every=1, then="\n".join(f"x = {k}" for k in range(200)))
    # that it changes x more than once is found when it is read to its end
    assert uh.integrate(problem, events=[acting], budget=uh.Budget(seconds=1e-7)).ending.reason == "budget"
    # what goes on with it has the budget once more
    assert run.extend(to=1).ending.reason == "budget"
    whole = uh.integrate(problem, budget=uh.Budget(seconds=60))
    assert whole.explain(seconds=1e-7).statements
    quick = uh.compare(problem, ["auto", "radau-iia-5"], rtol=1e-4, budget=uh.Budget(seconds=1e-7))
    assert "budget" in str(quick)


def test_states_of_one_cell_have_equal_indices() -> None:
    text = """a' = -a\nu[k]' = a - u[k] for k in 1..3
    b' = -b\nv[k]' = u[k-1] for k in 2..4
    w[k,j]' = -w[k,j] for k in 1..2, j in 0..2"""
    start = {"a": 1, "b": 1, **dict.fromkeys(("u[k]", "v[k]", "w[k,j]"), "1")}
    layout = uh.Problem.from_text(text, initial=start, interval=(0, 1)).model.layout
    names = [layout.name_of(index) for index in range(layout.size)]
    wanted = [name[1:] if "[" in name else name for name in names]
    cells = _cells_of(layout).tolist()
    pairs = itertools.combinations(range(len(names)), 2)
    assert all((cells[one] == cells[other]) is (wanted[one] == wanted[other]) for one, other in pairs)
    assert sorted(set(cells)) == [*range(len(set(wanted)))]
