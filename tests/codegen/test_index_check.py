"""No formula reaches memory that is not its own, and none takes longer than anybody can wait."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.index_check import hold_within
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_derived, native_system
from unhurried_heron.formulas.expression import SUM, Node, name, number
from unhurried_heron.formulas.layout import IndexedFormula, Loop

LEAKS = [
    "u[i]' = u[i-1] + sum(u[m] for m in 1..9) for i in 1..3\nu[0] = 0",
    "u[i]' = u[i-1] + sum(u[m] for m in 1..10^9) for i in 1..3\nu[0] = 0",
    "u[i]' = u[i-1] for i in 1..3\nu[0] = 0\ntotal = sum(u[m] for m in 1..9)",
    "u[i]' = u[i-1] for i in 1..3\nu[0] = 0\ntotal = sum(u[m] for m in 1..2) + sum(u[m] for m in 2..4)",
    "u[i]' = u[i-1] for i in 1..3\nu[0] = 0\ntotal = sum(sum(u[m]*u[k] for m in 0..k) for k in 1..4)",
    "u[i]' = u[2*i] for i in 1..3",
    "u[i]' = -u[i] for i in 1..3\nv = u[10^9*10^10]",
    "u[i]' = w[i] for i in 1..3\nw[i] = u[i+1] for i in 1..3",
]


@pytest.mark.parametrize("text", LEAKS)
def test_every_index_is_held_to_its_family(text: str) -> None:
    with pytest.raises(errors.FormulationError) as caught:
        uh.Problem.from_text(text, initial={"u": [1, 2, 3]}, interval=(0, 1))
    assert caught.value.location


SLOT = Node("slot", 0, ("i", 1))
INSIDE = IndexedFormula(
    (Loop("i", 0, 2),), 0, (1,), Node(SUM, "k", number(0), number(2), Node("mul", SLOT, Node("slot", 0, ("k", 1))))
)


@pytest.mark.parametrize(
    "block",
    [
        IndexedFormula((Loop("i", 0, 3),), 0, (1,), number(1)),
        IndexedFormula((Loop("i", 0, 2),), 1, (1,), number(1)),
        IndexedFormula((Loop("i", 0, 2),), 0, (1,), Node("slot", -1, ("i", 1))),
        IndexedFormula((Loop("i", 0, 2),), 0, (1,), Node("slot", 4, ("i", -3))),
        IndexedFormula((), 0, (), Node(SUM, "k", number(0), number(3), Node("slot", 0, ("k", 1)))),
        IndexedFormula((), 0, (), Node("add", name("a"), Node("slot", 3))),
        IndexedFormula((), 0, (), SLOT),
    ],
)
def test_a_slip_of_the_formulation_is_caught_by_the_emitter(block: IndexedFormula) -> None:
    hold_within([INSIDE], 3, 3)
    with pytest.raises(uh.HeronError, match="not its own"):
        hold_within([INSIDE, block], 3, 3)


@settings(max_examples=80, deadline=None)
@given(st.data())
@pytest.mark.long
def test_random_families_against_plain_loops(data: st.DataObject) -> None:
    """What is accepted reads what a plain loop in Python reads; what a plain loop cannot read is refused."""
    n = data.draw(st.integers(2, 5))
    edge = data.draw(st.sampled_from([None, 0, 1]))
    scale, shift = data.draw(st.sampled_from([(1, 0), (1, 1), (1, -1), (-1, 6), (2, -1), (1, 2)]))
    first, last = sorted((data.draw(st.integers(-1, 6)), data.draw(st.integers(-1, 7))))
    lines = [f"u[i]' = u[{scale}*i + {shift}] + sum(u[m]*m for m in {first}..{last}) for i in 1..{n}"]
    lines += [f"u[0] = {edge}", f"u[{n + 1}] = 2*u[{n}] + t"] if edge is not None else []
    lines.append(f"total = sum(u[m]*u[m] for m in {first}..{last}) + sum(u[m] for m in 1..{n})")
    state, t = np.linspace(0.5, 2.0, n), 0.3
    known = dict(enumerate(state, 1)) | ({0: edge, n + 1: 2 * state[-1] + t} if edge is not None else {})
    try:
        total = sum(known[m] * m for m in range(first, last + 1))
        rates = [known[scale * i + shift] + total for i in range(1, n + 1)]
        derived = sum(known[m] ** 2 for m in range(first, last + 1)) + state.sum()
    except KeyError:
        with pytest.raises(errors.FormulationError):
            uh.Problem.from_text("\n".join(lines), initial={"u": state}, interval=(0, 1))
        return
    problem = uh.Problem.from_text("\n".join(lines), initial={"u": state}, interval=(0, 1))
    native = with_jacobian(native_system(problem, ()), problem)
    assert evaluate_rows(native.rates, np.array([t]), state[None, :])[0] == pytest.approx(rates, rel=1e-13)
    found = evaluate_rows(native_derived(problem), np.array([t]), state[None, :])[0]
    assert found == pytest.approx([derived], rel=1e-13)


ENDLESS = [
    ("x' = -x*sum(1/m for m in 1..10^9)", {}, {}),
    ("x' = -k*x", {"k": "sum(sum(1/(m+i) for m in 1..10^4) for i in 1..10^5)"}, {}),
    ("u[i]' = sum(u[m]/(i+m) for m in 1..n) for i in 1..n\nx' = -x", {"n": 10_000}, {"u[i]": 1}),
]


@pytest.mark.parametrize(("text", "parameters", "initial"), ENDLESS)
def test_what_nothing_could_interrupt_is_refused(text: str, parameters: dict, initial: dict) -> None:
    with pytest.raises(errors.IndexedStateError, match="too many terms"):
        uh.Problem.from_text(text, parameters=parameters, initial={"x": 1, **initial}, interval=(0, 1))


def test_budgets_end_long_attempts() -> None:
    dense = uh.Problem.from_text(
        "u[i]' = sum(u[m]*sin(m) for m in 1..n)/n - i*u[i] for i in 1..n",
        initial={"u[i]": 1},
        parameters={"n": 1500},
        interval=(0, 1),
    )
    sums = uh.Problem.from_text("x' = -x*sum(1/m for m in 1..2*10^7)", initial={"x": 1}, interval=(0, 1000))
    for problem, method in ((dense, "radau-iia-5"), (sums, "dormand-prince-54")):
        # without a watch over the factorisation this takes far longer than a test may
        run = uh.integrate(problem, method, budget={"seconds": 0.2})
        assert run.ending.reason == "budget"


def test_thousands_of_events_share_machine_code() -> None:
    events = [uh.Event(f"x = {k}/1000", name=f"e{k}") for k in range(1, 1000)]
    problem = uh.Problem.from_text("x' = 1 - x", initial={"x": 0}, interval=(0, 3), events=events)
    native = native_system(problem, problem.events)
    assert len({event.address for event in native.events}) == 1
    assert len(uh.integrate(problem).events) == sum(k / 1000 < 1 - np.exp(-3) for k in range(1, 1000))
