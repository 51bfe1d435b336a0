"""What errors say, word for word: what was given, what was expected, and where."""

from __future__ import annotations

from collections.abc import Callable

import pytest

import unhurried_heron as uh

PLAIN = {"initial": {"x": 1}, "interval": (0, 1)}


def decay(**more: object) -> uh.Problem:
    return uh.Problem.from_text("x' = -x", **{**PLAIN, **more})


SAID = [
    (lambda: decay().with_(parameters={"k": 1}),
     "there is no parameter 'k'; expected: one of none; given: k; at with_, parameters"),
    (lambda: uh.Problem.from_rates(lambda x: {}, **PLAIN),
     "the function '<lambda>' returned a dict that does not fit the states; expected: one rate for each of x; "
     "given: an empty dict; at the function '<lambda>'"),
    (lambda: uh.Problem.from_rates(lambda x, z: [1.0], initial={"x": 1, "z": 2}, interval=(0, 1)),
     "the function '<lambda>' returned something that is not 2 real numbers; expected: a sequence of 2 real numbers in "
     "the order x, z; given: list of shape (1,) and type float64; at the function '<lambda>'"),
    (lambda: uh.Problem.from_rates(lambda x: [1.0, 2.0], **PLAIN),
     "the function '<lambda>' returned something that is not 1 real number; expected: a sequence of 1 real number; "
     "given: list of shape (2,) and type float64; at the function '<lambda>'"),
    (lambda: uh.Measured([0, 1, 1, 3], [1, 2, 3, 4]),
     "this measured input is not usable; expected: times that increase; given: 1 then 1 in row 3; at the table"),
    (lambda: uh.Measured([0, 1], [1, float("nan")]),
     "this measured input is not usable; expected: a finite value in every row; given: nan in row 2; at the table"),
    (lambda: decay(parameters={"spare": 1}),
     "parameter 'spare' appears in no equation, event, value or closed form; expected: only parameters that are used; "
     "given: spare; at parameters"),
    (lambda: decay(interval=("0 km", "1 h")),
     "the unit of this value is of another kind than 'km'; expected: a value in km, or in a unit of the same "
     'kind; given: 1 h; at the interval'),
    (lambda: uh.Problem.from_text("x' = sin(x, 2)", **PLAIN),
     "'sin' has the wrong number of arguments; expected: 1; given: 2; at the equations, line 1, column 6:; x' ="
     ' sin(x, 2); ^'),
    (lambda: uh.Problem.from_text("x' = min(x)", **PLAIN),
     "'min' has the wrong number of arguments; expected: at least 2; given: 1; at the equations, line 1, column"
     " 6:; x' = min(x); ^"),
    (lambda: uh.compare(decay(), ["heun-2"], rtol=[]),
     'there is nothing to compare; expected: at least one method and one tolerance or step; given: 1 methods, 0'
     ' tolerances, 0 steps; at compare'),
    (lambda: uh.compare(decay(), "euler", rtol="tight"),
     "rtol is not usable; expected: a positive number; given: 'tight'; at rtol"),
    (lambda: uh.integrate(decay(), atol={"y": 1}),
     "atol is given for 'y', which is no state; expected: one of x; given: y; at atol"),
    (lambda: uh.integrate(decay(), record=[0.5, 0.25]),
     'the times to record do not follow the interval; expected: times from 0 to 1, each beyond the one before; '
     'given: times out of order; at record'),
    (lambda: uh.integrate(decay(), budget={"hours": 1}),
     "a run has no budget of 'hours'; expected: one of steps, rate_evaluations, seconds; given: 'hours'; at "
     'budget'),
    (lambda: uh.integrate(decay(), starting_step=1e-17, largest_step=-1),
     'largest_step is not usable; expected: a positive number; given: -1; at largest_step'),
]  # fmt: skip


def test_what_a_problem_says() -> None:
    assert repr(decay()) == "Problem('', initial={'x': 1.0}, parameters={}, interval=(0.0, 1.0))"


@pytest.mark.parametrize(("what", "words"), SAID)
def test_what_an_error_says(what: Callable[[], object], words: str) -> None:
    with pytest.raises(uh.HeronError) as raised:
        what()
    assert "; ".join(line.strip() for line in str(raised.value).splitlines()).replace(":    ", ": ") == words


MANY = [f"pond{k}" for k in range(1500)]
LARGE = {"equations": "\n".join(f"{name}' = -{name}" for name in MANY), "initial": dict.fromkeys(MANY, 1.0),
         "interval": (0, 1)}  # fmt: skip


@pytest.fixture(scope="module")
def large() -> uh.Problem:
    return uh.Problem.from_text(**LARGE)


@pytest.mark.parametrize(
    "mistake",
    [
        lambda _: uh.Problem.from_text(**LARGE | {"initial": {}}),
        lambda _: uh.Problem.from_text(**LARGE | {"initial": LARGE["initial"] | {f"z{k}": 1 for k in range(1500)}}),
        lambda _: uh.Problem.from_text(**LARGE | {"parameters": {f"z{k}": 1 for k in range(1500)}}),
        lambda _: uh.Problem.from_text(**LARGE | {"units": {"zz": "m"}}),
        lambda _: uh.Problem.from_text(**LARGE | {"equations": LARGE["equations"].replace("= -", "= -k")}),
        lambda _: uh.Problem.from_text(**LARGE | {"never_negative": ["zz"]}),
        lambda _: uh.Problem.from_text(**LARGE | {"exact": {"zz": "1"}}),
        lambda _: uh.Problem.from_text(**LARGE | {"parameters": dict.fromkeys(("a", "b"), "open")}),
        lambda _: uh.Problem.from_rates(lambda t, y: {}, initial=LARGE["initial"], interval=(0, 1)),
        lambda _: uh.Problem.from_rates(lambda t, zz: [0], initial=LARGE["initial"], interval=(0, 1)),
        lambda problem: problem.with_(initial={"zz": 1}),
        lambda problem: problem.with_(events=[uh.Event("pond1 = 0.5", then="zz = 1")]),
        lambda problem: uh.integrate(problem, atol={"zz": 1}),
        lambda problem: uh.integrate(problem, parameters={"zz": 1}),
        lambda problem: uh.integrate(problem, record=2).at(0.5, "zz"),
        lambda problem: uh.integrate(problem, record=2)["zz"],
        lambda problem: uh.draw_states(uh.integrate(problem, record=2), ["zz"]),
        lambda problem: problem.rates_at(0, {"zz": 1}),
    ],
)
def test_messages_name_a_dozen_at_most(large: uh.Problem, mistake: Callable[[uh.Problem], object]) -> None:
    with pytest.raises(uh.HeronError) as raised:
        mistake(large)
    assert all(sum(line.count(name) for name in ("pond", "z")) < 16 for line in str(raised.value).splitlines())
    assert len(str(raised.value)) < 4000
