"""Events that act: jumps and modes against closed forms, known times, what is never missed and what never ends."""

from __future__ import annotations

import json
import math
import warnings

import numba
import numpy as np
import pytest

import unhurried_heron as uh

G, KEPT = 9.81, 0.8
SOME = ["dormand-prince-54", "radau-iia-5", "auto", "adams-variable", "backward-differentiation-3"]


def kept(v, restitution):
    return -restitution * v


COMPILED = numba.njit(kept)
BOUNCES = {
    "written": "v = -restitution*v",
    "by name": {"v": "-restitution*v"},
    "Python": lambda v, restitution: {"v": -restitution * v},
    "compiled": lambda v, restitution: {"v": COMPILED(v, restitution)},
}


def ball(then="v = -restitution*v", **more) -> uh.Problem:
    floor = uh.Event(more.pop("when", "x = 0"), name="floor", going="down", then=then)
    return uh.Problem.from_text(
        "x' = v\nv' = -g + 0*restitution", parameters={"g": G, "restitution": KEPT}, initial={"x": 1, "v": 0},
        **{"interval": (0, 3.4), "events": [floor], **more},
    )  # fmt: skip


def bounces(end: float) -> np.ndarray:
    times, speed = [math.sqrt(2 / G)], KEPT * math.sqrt(2 * G)
    while times[-1] + 2 * speed / G < end:
        times.append(times[-1] + 2 * speed / G)
        speed *= KEPT
    return np.array(times)


@pytest.mark.parametrize("when", ["x = 0", lambda x: x, numba.njit(lambda x: x)], ids=["written", "Python", "njit"])
@pytest.mark.parametrize("then", BOUNCES.values(), ids=BOUNCES)
def test_a_ball_bounces_as_the_closed_form_does(when, then) -> None:
    for method in SOME:
        fixed = {} if method != "backward-differentiation-3" else {"step": 1e-2}
        run = uh.integrate(ball(then, when=when), method, **(fixed or {"rtol": 1e-9}))
        speeds = math.sqrt(2 * G) * KEPT ** np.arange(8)
        assert run.events["time"].to_numpy() == pytest.approx(bounces(3.4), abs=1e-7)
        assert run.events["v"].to_numpy() == pytest.approx(-speeds, rel=1e-6)
        assert run.events["v after"].to_numpy() == pytest.approx(KEPT * speeds, rel=1e-6)
        tops = run.extremes("x")
        heights = tops["value"][tops["kind"] == "maximum"].to_numpy()
        assert heights == pytest.approx(KEPT ** (2.0 * np.arange(1, 9)), rel=1e-6)
        assert (run["x"] > -1e-9).all()


def test_a_jump_has_two_sides_everywhere() -> None:
    run = uh.integrate(ball(), rtol=1e-9)
    first = run.events["time"][0]
    assert run.at(first, "v") == pytest.approx(KEPT * math.sqrt(2 * G))
    assert run.at([first, 1.0], "v", side="before")[0] == pytest.approx(-math.sqrt(2 * G))
    rows = np.flatnonzero(run.times == first)
    assert rows.size == 2
    assert run["v"][rows].tolist() == [run.events["v"][0], run.events["v after"][0]]
    assert run.frame().index.tolist() == run.times.tolist()
    few = uh.integrate(ball(), rtol=1e-9, record=[0.0, first, 2.0])
    assert few["v"][1] == run.events["v after"][0]
    assert few.at(first, "v", side="before") == pytest.approx(run.events["v"][0], rel=1e-12)
    with pytest.raises(uh.RunError, match="two sides"):
        run.at(first, side="left")
    # nothing slants: between two drawn points of the same jump there is no time to speak of
    (curve,) = uh.draw_states(run, ["v"]).axes[0].lines[:1]
    t, v = curve.get_data()
    jump = int(np.argmax(np.abs(np.diff(v))))
    assert np.diff(t)[jump] < 1e-6 * 3.4
    # and a phase curve ends where it jumps, and begins again elsewhere
    x, v = uh.draw_phase(run, "x", "v").axes[0].lines[0].get_data()
    assert np.isnan(x).sum() == len(run.events)
    assert np.nanmax(np.abs(np.diff(v))) < 0.5


def heater(**more) -> uh.Problem:
    # from 1 to 2 it takes log 2 with the heating, and as long back
    return uh.Problem.from_text(
        "T' = -k*(T - outside) + heat*on\nload = on*heat",
        parameters={"k": 1.0, "outside": 0.0, "heat": 3.0, "on": 1.0},
        initial={"T": 1.0},
        **{
            "interval": (0, 10),
            "events": [
                uh.Event("T >= 2", then="on = 0", name="off"),
                uh.Event("T <= 1", then="on = 1", name="on again"),
            ],
            **more,
        },
    )


@pytest.mark.parametrize("method", SOME[:3])
def test_a_parameter_that_events_change_is_a_mode(method: str) -> None:
    run = uh.integrate(heater(), method, rtol=1e-9)
    half = math.log(2)
    assert run.modes == ("on",)
    assert run.columns == ("T", "load", "on")
    assert run.events["time"].to_numpy() == pytest.approx(half * np.arange(1, 15), abs=1e-7)
    assert run.events["on after"].tolist() == [0.0, 1.0] * 7
    assert run.at([0.3, 1.0, 1.5], ["on", "load"]).tolist() == [[1, 3], [0, 0], [1, 3]]
    assert run.integral("load") == pytest.approx(3 * (7 * half + 10 - 14 * half), abs=1e-6)
    assert run.where("on > 0.5")["from"].to_numpy() == pytest.approx(2 * half * np.arange(8), abs=1e-7)
    assert run.final["on"] == 1.0
    assert set(run["on"]) == {0.0, 1.0}
    assert run.crossings("on = 0.5")["time"].tolist() == run.events["time"].tolist()
    # what the run began with is what the problem says, and the next run of it begins so
    assert run.problem.parameters["on"] == 1.0
    assert uh.integrate(heater(), method, rtol=1e-9).final == run.final
    longer = uh.integrate(heater(interval=(0, 4)), method, rtol=1e-9).extend(10)
    assert longer.events["time"].to_numpy() == pytest.approx(run.events["time"].to_numpy(), abs=1e-7)
    assert longer.at(9.0, "on") == run.at(9.0, "on")
    with pytest.raises(uh.RunError, match="cannot be taken back"):
        run.extend(-1)
    called = {"T": 1.0}, {"k": 1.0, "outside": 0.0, "heat": 3.0, "on": 1.0}
    by_function = uh.Problem.from_rates(
        lambda y, k, outside, heat, on: [-k * (y[0] - outside) + heat * on], initial=called[0], parameters=called[1],
        interval=(0, 10), derived={"load": lambda on, heat: on * heat}, events=heater().events,
    )  # fmt: skip
    other = uh.integrate(by_function, method, rtol=1e-9)
    assert other.events["time"].to_numpy() == pytest.approx(run.events["time"].to_numpy(), abs=1e-6)
    assert other.at([0.3, 1.0, 1.5], ["on", "load"]).tolist() == [[1, 3], [0, 0], [1, 3]]


def dosed(*events: uh.Event, **more) -> uh.Problem:
    values = {"k": 0.3, "dose": 1.5, "gate": 0.0}
    return uh.Problem.from_text(
        "c' = -k*c + gate - gate + 0*dose", parameters=values, initial={"c": 0.0},
        **{"interval": (0, 10), "events": events, **more},
    )  # fmt: skip


def left(times, t: float = 10.0) -> float:
    return sum(1.5 * math.exp(-0.3 * (t - each)) for each in times if each <= t)


DOSE = {"then": "c = c + dose", "name": "dose"}
TIMED = [
    ({"every": 2}, [2, 4, 6, 8, 10]),
    ({"every": 2, "first": 0}, [0, 2, 4, 6, 8, 10]),
    ({"every": 4, "first": -9}, [3, 7]),
    ({"at": [7, 1, 10, 12]}, [1, 7, 10]),
    ({"at": 5.5}, [5.5]),
    ({"every": 2, "at_most": 3}, [2, 4, 6]),
    ({"every": 2, "only_if": "c < 1"}, [2, 4, 8]),
    ({"every": 2, "only_if": lambda c: c < 1}, [2, 4, 8]),
]


@pytest.mark.parametrize(("words", "times"), TIMED)
def test_known_times_are_landed_on(words: dict, times: list) -> None:
    for method in ("dormand-prince-54", "radau-iia-5", "adams-bashforth-4"):
        fixed = {"step": 0.013} if method == "adams-bashforth-4" else {"rtol": 1e-10}
        run = uh.integrate(dosed(uh.Event(**words, **DOSE)), method, **fixed)
        assert run.events["time"].tolist() == times
        assert run.final["c"] == pytest.approx(left(times), rel=1e-6)
        short = uh.integrate(dosed(uh.Event(**words, **DOSE), interval=(0, 5)), method, **fixed)
        if "at_most" not in words:
            assert short.extend(10).events["time"].tolist() == times
    few = uh.integrate(dosed(uh.Event(**words, **DOSE)), rtol=1e-10, record=21)
    assert few["c"] == pytest.approx([left(times, t) for t in few.times], rel=1e-6, abs=1e-12)


def test_known_times_backwards_with_units_and_ends() -> None:
    run = uh.integrate(dosed(uh.Event(every=3, **DOSE), interval=(10, 0)), rtol=1e-10)
    assert run.events["time"].tolist() == [7, 4, 1]
    assert run.final["c"] == pytest.approx(1.5 * sum(math.exp(0.3 * t) for t in (7, 4, 1)), rel=1e-8)
    run = uh.integrate(dosed(uh.Event(every=2, stop_after=3, **DOSE)), rtol=1e-10)
    assert (run.ending.reason, run.ending.time) == ("event", 6.0)
    assert run.final["c"] == pytest.approx(left([2, 4, 6], 6), rel=1e-9)
    assert uh.integrate(dosed(uh.Event(at=4, stop=True))).ending.time == 4.0
    units = dosed(uh.Event(every="12 h", first="6 h", **DOSE), interval=("0 d", "2 d"), units={"c": "mg"})
    assert uh.integrate(units).events["time"].tolist() == [0.25, 0.75, 1.25, 1.75]
    gated = dosed(uh.Event(at=3, then="gate = 1"), uh.Event(every=2, first=1, only_if="gate > 0", **DOSE))
    # what holds at a time is asked before anything changes there
    assert uh.integrate(gated).events["time"].tolist() == [3, 5, 7, 9]


def test_switches_follow_a_jump_and_known_times_follow_a_mode() -> None:
    spilling = uh.Problem.from_text(
        "level' = -where(level > crest, 1, 0)\nspilt' = where(level > crest, 1, 0)",
        parameters={"crest": 1.0}, initial={"level": 0.5, "spilt": 0}, interval=(0, 5),
        events=[uh.Event(at=1, then="level = level + 2"), uh.Event(at=2, then="crest = 1.25")],
    )  # fmt: skip
    run = uh.integrate(spilling, rtol=1e-9)
    assert run.final["level"] == pytest.approx(1.25, abs=1e-8)
    assert run.switches["time"].tolist() == pytest.approx([1.0, 2.25], abs=1e-8)
    pulsed = uh.Problem.from_text(
        "x' = pulse(t, opens, opens + 1)", parameters={"opens": 4.0}, initial={"x": 0}, interval=(0, 8),
        events=[uh.Event(at=2, then="opens = 5.5")],
    )  # fmt: skip
    run = uh.integrate(pulsed, rtol=1e-9)
    assert run.final["x"] == pytest.approx(1.0, abs=1e-9)
    assert run.at([5.5, 6.5], "x") == pytest.approx([0, 1], abs=1e-9)


def test_what_is_found_at_one_time() -> None:
    # all right sides are taken before anything changes
    swap = uh.Problem.from_text(
        "x' = 0\ny' = 0\nz' = 1", initial={"x": 1, "y": 2, "z": 0}, interval=(0, 3),
        events=[uh.Event("z = 1", then="x = y\ny = x")],
    )  # fmt: skip
    assert uh.integrate(swap).final == pytest.approx({"x": 2, "y": 1, "z": 3})
    # a jump that takes another event's function through zero makes it happen, and act, at the same time; its own not
    chain = uh.Problem.from_text(
        "x' = 1", parameters={"full": 0}, initial={"x": 0.0}, interval=(0, 2),
        events=[uh.Event(at=0.5, then="x = x + 5", name="tips"),
                uh.Event("x > 3", then="x = 0\nfull = full + 1", name="full"),
                uh.Event("x = 1", name="passes", going="up"), uh.Event("x = -1", name="never")],
    )  # fmt: skip
    run = uh.integrate(chain)
    assert list(zip(run.events["name"], run.events["time"].round(9), strict=True)) == [
        ("tips", 0.5), ("full", 0.5), ("passes", 0.5), ("passes", 1.5)]  # fmt: skip
    assert run.final == {"x": pytest.approx(1.5), "full": 1.0}
    assert run.watched["count"].tolist() == [1, 1, 2, 0]
    # at the very start and at the end, a touch, one that is zero for a while
    rises = uh.Problem.from_text("x' = where(t < 1, 1, where(t < 2, 0, 1))", initial={"x": 0}, interval=(0, 3))
    for text, times in (("x = 0", []), ("x = 1", [1.0]), ("x = 2", [3.0]), ("(x - 0.5)^2 = 0", [])):
        assert uh.integrate(rises, events=[uh.Event(text)]).events["time"].tolist() == pytest.approx(times, abs=1e-9)


@pytest.mark.parametrize("method", SOME)
def test_what_never_ends_is_told(method: str) -> None:
    fixed = {"step": 1e-2} if method == "backward-differentiation-3" else {}
    limit = math.sqrt(2 / G) + 2 * KEPT * math.sqrt(2 * G) / G / (1 - KEPT)
    with pytest.warns(uh.IncompleteRunWarning, match="faster and faster"):
        run = uh.integrate(ball(interval=(0, 10)), method, **fixed)
    assert run.ending.reason == "accumulating"
    assert f"t = {limit:.10g}" in run.ending.message
    assert run.events["time"].to_numpy()[:20] == pytest.approx(bounces(4.03)[:20], abs=1e-6)
    relay = uh.Problem.from_text(
        "x' = rate", parameters={"rate": 1}, initial={"x": 0}, interval=(0, 5),
        events=[uh.Event("x >= 1", then="rate = -2", name="high"), uh.Event("x <= 1", then="rate = 1", name="low")],
    )  # fmt: skip
    with pytest.warns(uh.IncompleteRunWarning, match="event 'high' goes back and forth"):
        assert uh.integrate(relay, method, **fixed).ending.time == pytest.approx(1, abs=1e-9)
    resting = ball(interval=(0, 10), events=[
        uh.Event("x = 0", going="down", then="v = -restitution*v", only_if="abs(v) > 0.1", name="floor"),
        uh.Event("x <= 0", then="v = 0\ng = 0", only_if="abs(v) <= 0.1", name="rests"),
    ])  # fmt: skip
    run = uh.integrate(resting, method, **fixed)
    assert run.ending.reason == "end"
    assert run.at(10.0) == pytest.approx([0, 0], abs=1e-6)


@pytest.mark.parametrize("method", SOME)
def test_sliding_along_a_switch(method: str) -> None:
    fixed = {"step": 1e-2} if method == "backward-differentiation-3" else {"rtol": 1e-9, "atol": 1e-9}
    # pushed at speeds 1 and -2 it stays, a third of the time above
    held = uh.Problem.from_text("x' = where(x > 1, -2, 1)\ny' = where(x > 1, 1, 0)", initial={"x": 0, "y": 0},
                                interval=(0, 5))  # fmt: skip
    run = uh.integrate(held, method, **fixed)
    assert run.at([0.5, 1, 5]) == pytest.approx(np.array([[0.5, 0], [1, 0], [1, 4 / 3]]), abs=1e-6)
    assert run.ledger["switch"].iloc[-1] == "x > 1: sliding"
    # dry friction: it sticks until the pull exceeds it
    friction = uh.Problem.from_text("z'' + f*sign(z') = sin(t)", parameters={"f": 0.6}, initial={"z": 0, "z'": 0},
                                    interval=(0, 20))  # fmt: skip
    run = uh.integrate(friction, method, **fixed)
    leaves = np.arcsin(0.6) + np.pi * np.arange(7)
    found = run.switches
    sticks = found["switch"].str.endswith("sliding")
    assert found["time"][~sticks].to_numpy() == pytest.approx(leaves, abs=1e-6)
    assert found["value"][~sticks].tolist() == [1, 0] * 3 + [1]
    # from its speed after leaving: cos(t0) - cos(t) - 0.6 (t - t0) = 0
    stop = found["time"][sticks].to_numpy()[1]
    assert math.cos(leaves[0]) - math.cos(stop) - 0.6 * (stop - leaves[0]) == pytest.approx(0, abs=1e-5)
    assert np.abs(run.at(np.linspace(stop, leaves[1], 9), "z'")).max() < 1e-6
    few = uh.integrate(friction, method, record=[5.0, 19.0], **fixed)
    assert few["z"] == pytest.approx(run.at([5.0, 19.0], "z"), abs=1e-6)
    pushed = uh.integrate(held.with_(events=[uh.Event(at=3, then="x = x + 1", name="push")]), method, **fixed)
    assert pushed.at([3.0, 3.25, 5.0], "x") == pytest.approx([2, 1.5, 1], abs=1e-6)
    # another switch is crossed on the way, and changes the share: 1/3, then 1.5/3 of the time above
    other = uh.Problem.from_text("x' = where(x > 1, -2, 1) + where(y > 0.5, 0.5, 0)\ny' = where(x > 1, 1, 0)",
                                 initial={"x": 0, "y": 0}, interval=(0, 5))  # fmt: skip
    assert uh.integrate(other, method, **fixed).at(5.0) == pytest.approx([1, 0.5 + 2.5 / 2], abs=1e-6)
    back = held.with_(interval=(5, 0), events=[])
    assert uh.integrate(back, method, **fixed).ending.reason == "end"


def test_words_that_are_refused() -> None:
    base = dosed()
    wrong = [
        ({"when": "c = 1", "then": "q = 1"}, "cannot change 'q'"),
        ({"when": "c = 1", "then": "c = zz"}, "not defined"),
        ({"when": "c = 1", "then": "c = 1\nc = 2"}, "twice"),
        ({"when": "c = 1", "then": "2*c = 1"}, "a state or a parameter"),
        ({"when": "c = 1", "then": 3}, "'then' of an event"),
        ({"when": "c = 1", "at": 3}, "one thing to look for"),
        ({}, "one thing to look for"),
        ({"every": 0}, "above zero"),
        ({"at": "6 h"}, "has a unit"),
        ({"at": [1, None]}, "no time|no number"),
        ({"at": 3, "going": "up"}, "neither up nor down"),
        ({"at": 3, "first": 2}, "come again"),
        ({"at": 3, "at_most": 0}, "a count"),
        ({"at": 3, "stop_after": True}, "a count"),
        ({"at": 3, "only_if": 7}, "'only_if' of an event"),
        ({"at": 3, "only_if": "nothing > 0"}, "not defined"),
    ]
    for words, message in wrong:
        with pytest.raises(uh.HeronError, match=message):
            base.with_(events=[uh.Event(**words)])
    with pytest.raises(uh.HeronError, match="is a formula of 'k'"):
        uh.Problem.from_text("c' = -half*c", parameters={"k": 1, "half": "k/2"}, initial={"c": 1}, interval=(0, 1),
                             events=[uh.Event(at=0.5, then="k = 2")])  # fmt: skip


class OwnError(Exception):
    """Somebody's own."""


@pytest.mark.parametrize("error", [OwnError("mine"), ZeroDivisionError(), KeyboardInterrupt(), SystemExit(3)])
def test_exceptions_come_out_whole(error: BaseException) -> None:
    def raises(t, c):
        if t >= 3:
            raise error
        return {} if t > 0 else None

    for words in ({"then": raises}, {"only_if": lambda t, c: raises(t, c) is not None, "then": "c = 1"}):
        for known in ({"every": 1}, {"when": "t >= 3.5"}):
            with pytest.raises(type(error)) as caught:
                uh.integrate(dosed(uh.Event(**known, **words)).with_(initial={"c": 0.5}))
            assert caught.value is error
    for answer in (3, {"q": 1}, {"c": "a"}, {"c": math.nan}, {"c": [1, 2]}):
        with pytest.raises(uh.HeronError, match="an event cannot do"):
            uh.integrate(dosed(uh.Event(at=2, then=lambda answer=answer: answer)))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        run = uh.integrate(dosed(uh.Event(at=2, then="c = sqrt(-1 - c)")))
    assert (run.ending.reason, run.ending.time) == ("not finite", 2.0)


def test_members_of_families_jump(tmp_path) -> None:
    cells = uh.Problem.from_text(
        "u[i]' = 0 for i in 1..n", parameters={"n": 4, "share": 0.5}, initial={"u": [1.0, 2.0, 3.0, 4.0]},
        interval=(0, 3), events=[uh.Event(at=1, then="u[2] = 9"),
                                 uh.Event(at=2, then="u[i] = share*u[n+1-i] for i in 1..n", name="mirror")],
    )  # fmt: skip
    run = uh.integrate(cells)
    assert run["u"][-1].tolist() == [2.0, 1.5, 4.5, 0.5]
    cells.to_file(tmp_path / "cells.toml")
    again = uh.Problem.from_file(tmp_path / "cells.toml")
    assert again == cells
    assert again.events == cells.events
    assert again.fingerprint != cells.with_(events=[]).fingerprint
    warm = uh.integrate(heater())
    uh.write_summary(warm, tmp_path / "run.json")
    events = json.loads((tmp_path / "run.json").read_text())["events"]
    assert (events[0]["name"], events[0]["after"]["on"]) == ("off", 0.0)
    assert [each["after"]["on"] for each in events] == warm.events["on after"].tolist()
    assert len({*warm.events["on after"]}) == 2
    with pytest.raises(uh.HeronError, match="size of an indexed state"):
        cells.with_(events=[uh.Event(at=1, then="n = 3")])
    with pytest.raises(uh.HeronError, match="is an indexed state"):
        cells.with_(events=[uh.Event(at=1, then="u = 3")])


def test_what_goes_on_after_sliding_meets_nothing_twice() -> None:
    friction = uh.Problem.from_text(
        "x' = y\ny' = -x - 0.3*sign(y) + 0.8*sin(2*t)", initial={"x": 0.4, "y": -0.2}, interval=(0, 3),
        parameters={"k": 1.0}, events=[uh.Event(every=0.5, then="k = 2*k", name="known")],
    )  # fmt: skip
    held = uh.Problem.from_text(
        "x' = where(x > 0.3, -m, 1)\ny' = x", parameters={"m": 1.0}, initial={"x": 0.4, "y": -0.2}, interval=(0, 3),
        events=[uh.Event("x*y = 0.1", then=lambda m: {"m": m}, name="stays"),
                uh.Event(at=0.1, then="m = m", name="at")],
    )  # fmt: skip
    twice = uh.Problem.from_text(
        "x' = y\ny' = -x - 0.3*sign(y) + 0.8*sin(2*t)", initial={"x": 0.4, "y": -0.2}, interval=(3, 0),
        events=[uh.Event("y <= -0.1", name="low"), uh.Event("x*y = 0.1", then="x = 0", name="jumps")],
    )  # fmt: skip
    for method in ("dormand-prince-54", "radau-iia-5", "verner-76"):
        run = uh.integrate(friction, method, rtol=1e-9, atol=1e-10)
        assert run.switches["switch"].str.endswith("sliding").any()
        # crossings back and forth may move a known time by its last bit
        assert run.events["time"].to_numpy() == pytest.approx(0.5 * np.arange(1, 7), rel=1e-15)
        run = uh.integrate(held, method, rtol=1e-9, atol=1e-10)
        assert run.events["name"].value_counts().to_dict() == {"stays": 1, "at": 1}
        # steps that were cut where they began have no length, and answer no question
        assert run.crossings("y = 0")["time"].to_numpy() == pytest.approx([0.1 + 0.165 / 0.3], abs=1e-7)
        run = uh.integrate(twice, method, rtol=1e-9, atol=1e-10)
        low = run.events[run.events["name"] == "low"]
        assert low["y"].to_numpy() == pytest.approx([-0.1] * len(low), abs=1e-9)
