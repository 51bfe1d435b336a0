"""Members of a sweep march in compiled code, one after another, and are what single runs are, bit for bit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.driver.budget import Budget
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
    "narrow": (
        uh.Problem.from_text(
            "level' = exp(-((t - opens)/width)^2) + atan((t - 2*opens)/width) - level",
            parameters={"first": 70.0, "width": 0.1, "opens": "2*first"}, initial={"level": 0.4}, interval=(0, 72),
        ),
        {"first": np.linspace(45, 2, 7), "width": np.linspace(0.2, 0.01, 7)},
    ),
    "narrow in a state": (tank("level' = 0.2 + exp(-((level - opens)/0.001)^2)", opens=3.0),
                          {"opens": np.linspace(5, -5, 5)}),
    "curve": (tank("level' = where(sin(t/period) > 0.3, 0.1, 0) + floor(2*cos(t/period)) - leak*level"),
              {"period": np.linspace(7, 0.4, 6)}),
    "curve backwards": (tank("level' = where(t^2 > opens, 1, 0)", interval=(9, 2)), {"opens": np.linspace(0, 90, 5)}),
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
        own = members.events.members == k
        found = run.data.event_log
        assert members.events.times[own].tolist() == found.times.tolist()
        assert members.events.which[own].tolist() == found.which.tolist()
        assert np.array_equal(members.events.states[own], found.before.reshape(-1, len(problem.states)))
        counts = dict(zip(COUNTED, members.counts[k].tolist(), strict=True))
        assert (counts["accepted"], counts["refused"], counts["changes"]) == (
            run.tally.accepted, run.tally.refused, run.tally.changes)  # fmt: skip


def test_every_count_of_a_tally_is_kept() -> None:
    assert [*COUNTED] == [name for name in uh.Tally.__dataclass_fields__ if name != "seconds"]


def test_members_that_need_python_say_so() -> None:
    pulse = tank("level' = exp(-((t - opens)/0.1)^2) - leak*level")
    function = uh.Problem.from_rates(
        lambda t, level, leak: -leak * level, parameters={"leak": 1.0}, initial={"level": 1.0}, interval=(0, 1)
    )
    row = uh.Problem.from_text("u[i]' = -rate*u[i] for i in 1..3", parameters={"rate": 1.0}, initial={"u[i]": "rate*i"},
                               interval=(0, 1))  # fmt: skip
    answers = [
        why_alone(request_for(problem, method, record=record), {moved})
        for problem, method, record, moved in (
            (function, "auto", 3, "leak"),
            (pulse, "auto", "steps", "leak"),
            (row, "auto", 3, "rate"),
            (pulse, "auto", 3, "leak"),
        )
    ]
    assert [bool(answer) for answer in answers] == [True, True, True, False]


@pytest.mark.long
def test_a_member_whose_known_times_cannot_be_told_apart_is_left_out() -> None:
    wave = tank("level' = where(sin(t/period) > 0.3, 1, 0) - leak*level")
    found = members_of(wave, "period", [5.0, 1e-6, 3.0])
    assert [Reason(each).name for each in found.reasons] == ["REACHED_END", "NO_ROOM", "REACHED_END"]
    assert np.isnan(found.recorded[1]).all()
    # where the march looks for the switch, so do its members, and the others are left out
    looks = uh.Problem.with_(wave, parameters={"period": 1e-4})
    found = members_of(looks, "period", [5.0, 2e-4])
    assert [Reason(each).name == "NO_ROOM" for each in found.reasons] == [True, False]


def members_of(problem: uh.Problem, name: str, values: list[float], method: str = "auto", **options):
    request = request_for(problem, method, record=5, **options)
    parameters = np.tile([problem.parameters[each] for each in problem.model.parameters], (len(values), 1))
    parameters[:, problem.model.parameters.index(name)] = values
    return march_members(request, parameters, np.tile(problem.start, (len(values), 1)), {name}, threads=3)


def test_a_member_that_fails_leaves_the_others_as_they_are() -> None:
    blows = tank("level' = leak*level^2 - 0.1*level", interval=(0, 10))
    found = members_of(blows, "leak", [0.1, 3.0, 0.2, float("nan"), 0.1], rtol=1e-8)
    assert [Reason(each).name for each in found.reasons] == [
        "REACHED_END", "STEP_TOO_SMALL", "REACHED_END", "NOT_FINITE", "REACHED_END"]  # fmt: skip
    assert found.recorded[4].tobytes() == found.recorded[0].tobytes()
    assert np.isfinite(found.recorded[[0, 2]]).all()
    # what was recorded before stays, and nothing is made up beyond
    assert np.isnan(found.recorded[1]).any(axis=1).tolist() == [False, True, True, True, True]
    assert 0 < found.ends[1] < 1.2
    assert found.ends[3] == 0.0


def test_events_of_one_member_may_be_more_than_their_buffer(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("unhurried_heron.driver.member_loops._EVENT_ROOM", 3)
    often = tank("level' = leak*cos(t)", events=(uh.Event("level = 0.5", name="passes"),))
    found = members_of(often, "leak", [0.2, 0.01, 0.5, 0.3])
    for k, leak in enumerate([0.2, 0.01, 0.5, 0.3]):
        with quietly():
            run = uh.integrate(often, record=5, parameters={"leak": leak})
        assert found.events.times[found.events.members == k].tolist() == run.events["time"].tolist()
    assert (found.events.members == 1).sum() == 0
    assert (found.events.members == 2).sum() > 20


def test_members_stop_at_events_and_within_their_budget() -> None:
    stops = tank(FILLS, events=(uh.Event("level = 1", name="full", stop=True),), inflow=0.3)
    found = members_of(stops, "leak", [0.1, 0.4, 0.01])
    assert [Reason(each).name for each in found.reasons] == ["EVENT", "REACHED_END", "EVENT"]
    assert found.finals[[0, 2], 0] == pytest.approx(1.0, abs=1e-9)
    exact = [np.log((0.3 / leak - 0.4) / (0.3 / leak - 1)) / leak for leak in (0.1, 0.01)]
    assert found.ends[[0, 2]] == pytest.approx(exact, rel=1e-6)
    request = request_for(tank("level' = sin(t)*leak - level"), "dormand-prince-54", record=3, rtol=1e-9)
    few = replace(request, budget=Budget(steps=20))
    short = march_members(few, np.array([[0.3], [0.5]]), np.array([[0.4], [0.4]]), {"leak"})
    assert short.counts[:, :2].sum(axis=1).tolist() == [20, 20]
    assert set(short.reasons) == {Reason.PAUSED}
    assert (short.ends < 72).all()
