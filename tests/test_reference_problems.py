"""Problems of the literature, against values confirmed to 19 digits and more."""

from __future__ import annotations

import numpy as np
import pytest
from data.literature import REFERENCES, literature_problem

import unhurried_heron as uh

STIFF_ONLY = {
    "robertson",
    "hires",
    "oregonator",
    "ehl_d3",
    "autocatalysis",
    "linear_2x2_forced",
    "prothero_robinson",
    "van_der_pol_1e6",
    "ring_of_reactions",
    "pollution",
    "e5",
}
CASES = [
    (name, method)
    for name in REFERENCES
    for method in ("dormand-prince-54", "fehlberg-45", "radau-iia-5")
    if method == "radau-iia-5" or name not in STIFF_ONLY
]


def error_at_end(name: str, method: str, rtol: float) -> float:
    """Largest miss at the end of the interval, each state relative to its size in the reference."""
    given, problem = REFERENCES[name], literature_problem(name)
    run = uh.integrate(problem, method, rtol=rtol, atol=1e-8 * rtol)
    assert run.ending.reason == "end"
    end = problem.interval[1]
    key = next((k for k in given["reference"] if np.isclose(float(k), end, rtol=1e-12, atol=0)), None)
    if key is None:
        key = max(given["reference"], key=float)
        end = float(key)
    truth = {state: float(value) for state, value in given["reference"][key].items()}
    largest = max(abs(value) for value in truth.values())
    values = dict(zip(problem.states, run.at(end), strict=True))
    # states that vanish at the end are measured by the size of the others
    return max(abs(values[s] - v) / (abs(v) if abs(v) > 1e-14 else largest) for s, v in truth.items())


@pytest.mark.parametrize(("name", "method"), CASES)
def test_converges_to_the_reference(name: str, method: str) -> None:
    loose, tight = error_at_end(name, method, 1e-6), error_at_end(name, method, 1e-10)
    # the restricted three-body orbit multiplies errors by about a million
    assert tight < (1e-3 if name == "arenstorf" else 2e-6)
    # at the end alone errors may cancel at the looser tolerance
    assert tight < 1e-13 or tight < loose / 20


@pytest.mark.parametrize("jacobian", ["symbolic", "by differences"])
def test_robertson_to_1e11(jacobian: str) -> None:
    problem = literature_problem("robertson")
    if jacobian == "by differences":
        written = problem

        def rates(y1: float, y2: float, y3: float) -> list[float]:
            slow, fast, back = 0.04 * y1, 3e7 * y2 * y2, 1e4 * y2 * y3
            return [-slow + back, slow - back - fast, fast]

        problem = uh.Problem.from_rates(rates, initial=dict(written.initial), interval=written.interval)
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-8, atol=1e-18)
    truth = REFERENCES["robertson"]["reference"]["1e11"]
    assert all(run.final[state] == pytest.approx(float(value), rel=1e-8) for state, value in truth.items())
    assert run.tally.accepted < 2000
    assert abs(sum(run.final.values()) - 1.0) < 1e-9


EVENTS = [
    (name, event)
    for name, problem in REFERENCES.items()
    for event in problem.get("events") or []
    if name not in ("graze_parabola", "double_crossing") and event["count"]
]


@pytest.mark.parametrize(("name", "event"), EVENTS, ids=[f"{n}: {e['name']}" for n, e in EVENTS])
def test_events_of_the_literature(name: str, event: dict) -> None:
    going = {"any": "either", "rising": "up", "falling": "down"}[event["direction"]]
    span = tuple(float(x) for x in event["span"]) if "span" in event else literature_problem(name).interval
    problem = literature_problem(name).with_(interval=span)
    watch = uh.Event(f"{event['condition']} = 0", name="it", going=going)
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-11, atol=1e-16, events=[watch])
    found = run.events
    assert len(found) == event["count"]
    for row, known in zip(found.itertuples(), event["occurrences"], strict=False):
        assert row.time == pytest.approx(float(known["time"]), rel=1e-6, abs=1e-9)
        # "located to rounding": the condition holds at the recorded state, whatever the solution's own error
        residual = uh.Problem.from_text(
            "\n".join(REFERENCES[name]["equations"]) + f"\nresidual = {event['condition']}",
            parameters=problem.parameters,
            initial={state: getattr(row, state) for state in problem.states},
            interval=(row.time, row.time + 1),
        )
        size = max(abs(getattr(row, state)) for state in problem.states)
        assert abs(uh.integrate(residual, "euler", step=1.0)["residual"][0]) < 2e-13 * max(size, 1.0)
