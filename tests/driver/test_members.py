"""Members of a sweep march in compiled code, one after another, and are what single runs are, bit for bit."""

from __future__ import annotations

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.driver.members import march_members, why_alone
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.kernels.memory.sweep import COUNTED
from unhurried_heron.quiet import quietly

LEAK = {"leak": 0.3, "opens": 20.0, "period": 10.0}


def tank(text, *, events=(), interval=(0, 72), **values):
    used = {name: value for name, value in {**LEAK, **values}.items() if name in text + repr(events)}
    return uh.Problem.from_text(text, parameters=used, initial={"level": 0.4}, interval=interval, events=events)


FULL = uh.Event("level = 1", name="full", then="level = 0.5")
SHUT = uh.Event(every=10, name="shut", then="inflow = 0.5*inflow\nlevel = level*inflow")
FILLS = "level' = inflow - leak*level"
CASES = {
    "follows": (
        uh.Problem.from_text(
            "x' = v\nv' = -k*x - c*v\nw' = x*v - w", parameters={"m": 2.0, "k": "8/m", "c": "k/40"},
            initial={"x": "c*k", "v": 0, "w": "m"}, interval=(0, 12),
        ),
        {"m": np.linspace(1.5, 2.5, 5)},
    ),
    "starts": (tank("level' = -leak*level^2"), {"level": np.linspace(0.1, 2.0, 5)}),
    "gate": (tank("level' = where(t > opens and t < opens + 5, 0.1, 0) - leak*level"),
             {"opens": np.linspace(-3, 80, 9), "level": np.linspace(0, 1, 9)}),
    "backwards": (tank("level' = where(t > opens, 0.1, 0) - leak*level", interval=(30, 20)),
                  {"opens": np.linspace(19, 31, 7)}),
    "period": (tank("level' = where(mod(t, period) < 2, 0.1, 0) - leak*level"), {"period": np.linspace(30, 1, 7)}),
    "pond": (tank("level' = inflow*(1 + sin(t)) - max(level - 0.8, 0)^1.5", inflow=0.5),
             {"inflow": np.linspace(0.1, 2.0, 5)}),
    "event": (tank(FILLS, events=(FULL,), inflow=0.3), {"leak": np.linspace(0.005, 0.4, 7)}),
    "acts": (tank(FILLS, events=(SHUT,), inflow=1.0), {"leak": np.linspace(0.005, 0.2, 5)}),
    "stiff now and then": (
        uh.Problem.from_text("x' = y\ny' = mu*(1 - x^2)*y - x", parameters={"mu": 10.0}, initial={"x": 2, "y": 0},
                             interval=(0, 40)),
        {"mu": np.linspace(1, 40, 5)},
    ),
    "root": (tank("level' = -leak*sqrt(level)"), {"leak": np.linspace(0.01, 0.3, 5)}),
    "narrow beside": (tank("level' = exp(-((t - 30)/0.1)^2) - leak*level"), {"leak": np.linspace(0.1, 0.5, 3)}),
}  # fmt: skip


def request_for(problem: uh.Problem, method: str, **options) -> RunRequest:
    problem.model.requests.clear()
    with quietly():
        uh.integrate(problem, method, **options)
    return next(reversed(problem.model.requests.values()))


EACH = [(case, method) for case in ("gate", "event") for method in representatives(lambda each: each.order > 2)]
EACH += [(case, method) for case in CASES for method in ("auto", "radau-iia-5", "dormand-prince-54")]


@pytest.mark.parametrize(("case", "method"), dict.fromkeys(EACH))
def test_members_are_what_single_runs_are(case: str, method: str) -> None:
    problem, given = CASES[case]
    request = request_for(problem, method, record=4, rtol=1e-5)
    moved = {name for name in given if name in problem.parameters}
    assert why_alone(request, moved) == ""
    count = len(next(iter(given.values())))
    parameters = np.tile([problem.parameters[name] for name in problem.model.parameters], (count, 1))
    initial = np.tile(problem.start, (count, 1))
    for name, values in given.items():
        if name in moved:
            parameters[:, problem.model.parameters.index(name)] = values
        else:
            initial[:, problem.states.index(name)] = values
    members = march_members(request, parameters, initial, moved, threads=2)
    for k in range(count):
        single = {name: float(values[k]) for name, values in given.items()}
        with quietly():
            run = uh.integrate(
                problem, method, record=4, rtol=1e-5,
                parameters={name: value for name, value in single.items() if name in moved},
                initial={name: value for name, value in single.items() if name not in moved},
            )  # fmt: skip
        assert run.ending.as_requested == (members.reasons[k] == Reason.REACHED_END), (run.ending, members.reasons[k])
        assert np.array_equal(members.finals[k], run.data.trajectory.end_state)
        assert members.ends[k] == run.data.trajectory.end_time
        assert np.array_equal(members.recorded[k], run.states)
        counts = dict(zip(COUNTED, members.counts[k].tolist(), strict=True))
        assert (counts["accepted"], counts["refused"], counts["changes"]) == (
            run.tally.accepted, run.tally.refused, run.tally.changes)  # fmt: skip


def test_members_that_need_python_say_so() -> None:
    pulse = tank("level' = exp(-((t - opens)/0.1)^2) - leak*level")
    wave = tank("level' = where(sin(t/period) > 0.3, 1, 0) - leak*level")
    function = uh.Problem.from_rates(
        lambda t, level, leak: -leak * level, parameters={"leak": 1.0}, initial={"level": 1.0}, interval=(0, 1)
    )
    answers = [
        why_alone(request_for(problem, method, record=record), {moved})
        for problem, method, record, moved in (
            (pulse, "auto", 3, "opens"),
            (wave, "auto", 3, "period"),
            (function, "auto", 3, "leak"),
            (pulse, "auto", "steps", "leak"),
            (pulse, "auto", 3, "leak"),
        )
    ]
    assert [bool(answer) for answer in answers] == [True, True, True, True, False]
