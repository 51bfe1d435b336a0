"""How runs end, and that nothing done is lost."""

from __future__ import annotations

import math
import os
import re
import signal
import threading
import warnings

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.deadline import done_within
from unhurried_heron.driver.watchdog import Watchdog
from unhurried_heron.text.progress import ProgressBar


def say(rate: str, interval: tuple[float, float], start: float = 1.0) -> uh.Problem:
    return uh.Problem.from_text(f"x' = {rate}", initial={"x": start}, interval=interval)


FAILURES = [
    (say("-1e6*(x - cos(t))", (1e12, 1e12 + 1)), {}, "step too small", 1e12),
    (say("x^2", (0, 2)), {}, "step too small", 1.0),
    (say("x^2", (0, 2)), {"method": "radau-iia-5"}, "step too small", 1.0),
    (say("sqrt(1 - t)", (0, 2)), {}, "not finite", 1.0),
    (say("1/t", (0, 1)), {}, "not finite", 0.0),
    (say("1/t", (0, 1)), {"method": "radau-iia-5"}, "not finite", 0.0),
    (say("-1000*x", (0, 100)), {"method": "euler", "step": 0.01}, "not finite", 3.2),
    (say("x", (0, 1000)), {}, "not finite", 707.0),
    (say("where(t < 0.5, 1, 1e9)/(0.5 - t)", (0, 1)), {"method": "radau-iia-5"}, "step too small", 0.5),
]


@pytest.mark.parametrize(("problem", "options", "reason", "time"), FAILURES)
def test_failures_say_where_and_why(problem: uh.Problem, options: dict, reason: str, time: float) -> None:
    with pytest.warns(uh.IncompleteRunWarning):
        run = uh.integrate(problem, **options)
    assert run.ending.reason == reason
    assert not run.ending.as_requested
    assert run.ending.time == pytest.approx(time, rel=5e-3, abs=1e-12)
    assert run.ending.advice
    # what was done is kept, up to the place of failure
    assert run.times[-1] == run.ending.time
    assert np.isfinite(run.states).all()
    if reason == "not finite":
        assert "'x'" in run.ending.message
    if time == 1e12:
        assert "Neighbouring floating-point times are 0.000122 apart there, state 'x' changes" in run.ending.advice


HALF = uh.Event("x = 0.5", name="half", stop=True)
PAIR = {"method": "dormand-prince-54"}
STIFF = ("Its # steps were limited by stability and not by accuracy: the problem is stiff there. Try an implicit "
         "method, ")  # fmt: skip
WORDS = [
    (say("-1e5*(x - cos(t))", (0, 1)), {**PAIR, "budget": {"steps": 3000}}, "the budget of # steps was used up at "
     f"t = #: incomplete. {STIFF}radau-iia-#. Or: raise the budget, or start again from run.final with interval=(#, "
     "#)."),
    (say("-1e5*(x - cos(t))", (0, 1)), PAIR, f"reached the end, t = #. {STIFF}radau-iia-#."),
    (say("-where(t < 0.5, 2e6, 1)*(x - cos(t))", (0, 5)), PAIR, "reached the end, t = #. Of its # steps many were "
     "limited by stability and not by accuracy: the problem is stiff up to t = # at least. Try an implicit method, "
     "radau-iia-#."),
    (say("cos(t)", (0, 9)), {"budget": {"rate_evaluations": 30}}, "the budget of # rate evaluations was used up at "
     "t = #: incomplete. Raise the budget, or start again from run.final with interval=(#, #)."),
    (say("-x", (0, 1), 1e-12), {}, "reached the end, t = #. 'x' never came above ten times its absolute tolerance (at "
     "most #, atol #): little or nothing of these values is certain. Give a smaller atol=…, by name where states "
     "differ in size."),
    (say("-x", (0, 1), 1e-12), {"record": 2}, "reached the end, t = #. 'x' never came above ten times its absolute "
     "tolerance at the recorded times (at most #, atol #): little or nothing of these values is certain. Give a "
     "smaller atol=…, by name where states differ in size."),
    (say("-x", (0, 1)), {"events": [HALF]}, "stopped by the event 'half' at t = #."),
    (say("x^2", (0, 2)), {}, "the step became too small for floating-point times at t = #. State 'x' leaves all bounds "
     "towards t = #: its size is # there, and was at most # until shortly before. End the run earlier, or stop it "
     "by an event."),
    (say("-1000*x^3", (0, 2)), {"method": "euler", "step": 0.1}, "state 'x' or its rate is not finite at t = #; the "
     "last good point is t = #. The fixed step is probably beyond the method's stability: take a smaller one, or "
     "radau-iia-# if the problem is stiff."),
    (say("-1/(2*x)", (0, 2)), {"method": "sdirk-3"}, "Newton's iteration did not converge at t = #. A quotient by "
     "'#*x', or the highest derivative that it multiplies, has a pole where that is zero. Look at the equations near "
     "this time: a jump, a singularity, or a Jacobian that is singular."),
    (say("-1/(2*x)", (0, 2)), {"method": "radau-iia-5", "step": 0.3}, "Newton's iteration did not converge at t = #. "
     "Take a smaller step=…, or let the step adapt with rtol=…."),
    (say("1 - 3*floor(x)", (0, 2), 0.0), {}, "the switch 'floor(x)' goes back and forth without end at t = #. Both "
     "sides of it lead back to it. Give it two levels (open above one, shut below another), or smooth it."),
    (say("-1 + 0*log(x)", (0, 2)), {}, "state 'x' or its rate is not finite at t = #; the last good point is t = #. "
     "Below zero of 'x' its logarithm is no number: write what is meant there, where(x > # log(x), …)."),
]  # fmt: skip


@pytest.mark.parametrize(("problem", "options", "words"), WORDS)
def test_what_an_ending_says(problem: uh.Problem, options: dict, words: str) -> None:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        run = uh.integrate(problem, **options)
    assert re.sub(r"\d[\d,]*(\.\d+)?(e[-+]?\d+)?", "#", str(run.ending)) == words


@pytest.mark.parametrize("raised", [ValueError, KeyboardInterrupt])
@pytest.mark.long
def test_a_look_at_the_end_spoils_no_run(raised: type[BaseException]) -> None:
    calls, limit = 0, np.inf

    def rates(t: float, y: np.ndarray) -> list[float]:
        nonlocal calls
        calls += 1
        if calls == limit:
            raise raised
        return [-4e5 * y[0]]

    problem = uh.Problem.from_rates(rates, initial={"x": 1.0}, interval=(0, 1))
    calls = 0
    whole = uh.integrate(problem, **PAIR)
    assert "stability" in whole.ending.advice
    # the last call of all is none of a step's
    calls, limit = 0, calls
    if raised is ValueError:
        run = uh.integrate(problem, **PAIR)
        assert run.states[-1] == whole.states[-1]
        # what was looked at on the way tells as much
        assert "Of its" in run.ending.advice
    else:
        with pytest.raises(raised):
            uh.integrate(problem, **PAIR)


def test_budgets() -> None:
    problem = say("cos(t)", (0, 1e7))
    steps = uh.integrate(problem, budget={"steps": 777})
    assert steps.tally.accepted + steps.tally.refused == 777
    calls = uh.integrate(problem, **PAIR, budget=uh.Budget(rate_evaluations=1000))
    assert 1000 <= calls.tally.rate_evaluations < 1010
    clock = uh.integrate(problem, budget={"seconds": 0.3}, record=5)
    for run in (steps, calls, clock):
        assert run.ending.reason == "budget"
        assert "incomplete" in run.ending.message
    for bad in ({"steps": 0}, {"step": 3}, {"seconds": -1}, {"steps": 2.5}):
        with pytest.raises(uh.OptionError):
            uh.integrate(problem, budget=bad)


@pytest.mark.parametrize("native", [True, False])
def test_interrupt(native: bool) -> None:
    problem = say("-1e3*(x - cos(t))", (0, 1e9))
    if not native:
        problem = uh.Problem.from_rates(lambda t, y: [np.cos(t)], initial={"x": 1.0}, interval=(0, 1e9))
    uh.integrate(problem, budget={"steps": 10})
    for on_interrupt in ("return", "raise"):
        timer = threading.Timer(0.4, lambda: os.kill(os.getpid(), signal.SIGINT))
        timer.start()
        if on_interrupt == "raise":
            with pytest.raises(KeyboardInterrupt):
                uh.integrate(problem, record=3)
        else:
            run = uh.integrate(problem, "dormand-prince-54", on_interrupt="return", record=3)
            assert ("limited by stability" in run.ending.advice) is native
            assert run.ending.reason == "interrupted"
            assert "incomplete" in run.ending.message
            assert 0 < run.ending.time < 1e9
            assert run.times.tolist() == [0.0, run.ending.time]
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler


def test_a_loop_over_short_runs_can_be_interrupted() -> None:
    problem = say("cos(t)", (0, 30))
    uh.integrate(problem)
    timer = threading.Timer(0.5, lambda: os.kill(os.getpid(), signal.SIGINT))
    timer.start()

    def loop() -> None:
        while True:
            uh.integrate(problem)

    with pytest.raises(KeyboardInterrupt):
        loop()


def test_long_marches_are_whole() -> None:
    # many chunks: the pieces must join without a step lost or counted twice
    run = uh.integrate(say("cos(t)", (0, 3000)), rtol=1e-9)
    assert run.tally.accepted > 3000
    assert run.times.size == run.tally.accepted + 1 == len(run.ledger[run.ledger["accepted"]]) + 1
    assert (np.diff(run.times) > 0).all()
    assert np.allclose(run["x"], 1 + np.sin(run.times), atol=1e-6)


def test_fixed_steps_do_not_drift() -> None:
    run = uh.integrate(say("1", (0, 100)), "euler", step=0.02)
    assert run.times.size == 5001
    assert np.array_equal(run.times[:-1], 0.02 * np.arange(5000))
    shorter = uh.integrate(say("1", (0, 1)), "euler", step=0.3)
    assert np.allclose(np.diff(shorter.times), [0.3, 0.3, 0.3, 0.1])


def test_tolerances_by_name() -> None:
    text = "big' = 1e6*cos(t)\nsmall' = 1e-6*cos(3*t)"
    problem = uh.Problem.from_text(text, initial={"big": 0, "small": 0}, interval=(0, 20))
    loose = uh.integrate(problem, rtol=1e-3, atol={"big": 1e3, "small": 1e3})
    tight = uh.integrate(problem, rtol={"big": 1e-3, "small": 1e-10}, atol={"big": 1e3, "small": 1e-14})
    assert tight.tally.accepted > 3 * loose.tally.accepted
    assert tight.options["atol"] == {"big": 1e3, "small": 1e-14}


@pytest.mark.parametrize(
    "options",
    [
        {"rtol": -1},
        {"rtol": 1e-17},
        {"rtol": 0, "atol": 0},
        {"rtol": {"z": 1}},
        {"atol": "small"},
        {"step": 0},
        {"step": 0.1, "rtol": 1e-3},
        {"record": 1},
        {"record": "all"},
        {"record": [0.0, 2.0]},
        {"record": [0.5, 0.2]},
        {"record": [[0.5]]},
        {"record": []},
        {"starting_step": -1},
        {"largest_step": 0},
        {"on_interrupt": "ignore"},
    ],
    ids=str,
)
def test_unusable_options_are_refused(options: dict) -> None:
    with pytest.raises(uh.OptionError) as caught:
        uh.integrate(say("x", (0, 1)), **options)
    assert caught.value.expected
    assert caught.value.given


def test_steps_obey_their_bounds() -> None:
    run = uh.integrate(say("0*x", (0, 1)), starting_step=1e-3, largest_step=0.05)
    steps = np.diff(run.times)
    assert steps[0] == pytest.approx(1e-3)
    assert steps.max() <= 0.05 * (1 + 1e-12)


def test_progress_bar(capsys: pytest.CaptureFixture, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("unhurried_heron.text.progress._SHOW_AFTER", 0.0)
    for title, shown in (("weir", "weir"), ("", "dormand-prince-54")):
        problem = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), title=title)
        uh.integrate(problem, "dormand-prince-54", progress=True)
        assert shown in capsys.readouterr().err
    for start, end, counted in ((0.0, 10.0, "steps"), (-3.0, -13.0, "members"), (7.0, 2.0, "frames")):
        bar = ProgressBar(True, "pond", start, end, counted)
        bar._begun -= 10.0
        # a quarter of it, in ten seconds
        bar.update(0.75 * start + 0.25 * end, 1234)
        bar.close()
        shown = capsys.readouterr().err
        for words in ("pond", " 25%", f"1,234 {counted}"):
            assert words in shown
        assert ("t = 2.5, " in shown) == (counted == "steps")
        assert ("123 a second" in shown) == (counted == "members")
    monkeypatch.undo()
    early = ProgressBar(True, "pond", 0.0, 10.0)
    early.update(5.0, 1)
    early._begun -= 2.5
    assert capsys.readouterr().err == ""
    early.update(5.0, 1)
    early.close()
    assert "50%" in capsys.readouterr().err
    quiet = ProgressBar(None, "pond", 0.0, 10.0)
    quiet._begun -= 10.0
    quiet.update(5.0, 1)
    quiet.close()
    assert capsys.readouterr().err == ""


def test_a_watchdog_hands_signals_on() -> None:
    read, write = os.pipe()
    os.set_blocking(write, False)
    before, stopped = signal.set_wakeup_fd(write), threading.Event()
    try:
        with Watchdog(stopped.set, math.inf):
            with pytest.raises(KeyboardInterrupt):
                os.kill(os.getpid(), signal.SIGINT)
            assert stopped.wait(20)
        # whoever waited for signals before gets them still, now and afterwards
        assert os.read(read, 9) == bytes([signal.SIGINT])
        assert signal.set_wakeup_fd(before) == write
    finally:
        signal.set_wakeup_fd(before)
        os.close(read)
        os.close(write)


@pytest.mark.parametrize("method", ["auto", "radau-iia-5", "dormand-prince-54", "adams-variable", "steinebach-54"])
def test_endings_name_state_and_term(method: str) -> None:
    cases = {
        "x' = x^2\ny' = 1": "'x' leaves all bounds towards t = 1",
        "x' = tan(1.5*t)\ny' = 1": "rate of state 'x' leaves all bounds towards t = 1.0472",
        "(1 - t)*x' = x\ny' = 1": "highest derivative that it multiplies",
        "x' = log(1 - t)\ny' = 1": "'1 - t' its logarithm is no number",
    }
    for text, report in cases.items():
        problem = uh.Problem.from_text(text, initial={"x": 1, "y": 0}, interval=(0, 2))
        with pytest.warns(uh.IncompleteRunWarning):
            run = uh.integrate(problem, method)
        assert report in run.ending.advice, run.ending
        assert run.ending.time == pytest.approx(1.0472 if "tan" in text else 1, abs=1e-3)


def test_steps_that_collapse_end_the_run() -> None:
    text = "x' = -1e4*sign(x - sin(t))"
    with pytest.warns(uh.IncompleteRunWarning):
        run = uh.integrate(say(text.partition("= ")[2], (0, 10)), "dormand-prince-54", switches=False, record=2)
    assert run.ending.reason == "collapsed"
    assert "'x' changes fastest" in run.ending.advice
    # many short steps that are all alike are no collapse
    waves = uh.Problem.from_text("x' = cos(1e5*t)", initial={"x": 0}, interval=(0, 60))
    assert uh.integrate(waves, "dormand-prince-54", rtol=1e-3, atol=1e-9, record=2).tally.accepted > 1_000_000


def test_a_run_within_a_budget_of_others_names_what_was_allowed() -> None:
    with done_within(1e-7):
        run = uh.integrate(say("-x", (0, 1)))
    assert run.ending.reason == "budget"
    assert "the budget of 1e-07 seconds" in run.ending.message
