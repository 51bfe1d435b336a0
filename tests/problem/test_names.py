"""Names are data: one spelling, no steering characters, whoever hands them over; problems told apart and printed."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh

MICRO, GREEK = "\N{MICRO SIGN}", "\N{GREEK SMALL LETTER MU}"


@pytest.mark.parametrize("other", [MICRO, GREEK])
@pytest.mark.parametrize("letter", [MICRO, GREEK])
def test_one_letter_is_one_letter(letter: str, other: str) -> None:
    problem = uh.Problem.from_text(
        f"{letter}' = -k{other}*{letter}\nw{letter} = 2*{other}",
        initial={other: 1},
        parameters={f"k{letter}": 2},
        interval=(0, 1),
        units={other: "m"},
        exact={other: f"{letter}_0*exp(-2*t)"},
        never_negative=[other],
        conserved=[f"0*{other}"],
    )
    again = problem.with_(parameters={f"k{other}": 3}, initial={letter: 4}).with_(parameters={f"k{letter}": 2})
    run = uh.integrate(again, rtol={other: 1e-9}, events=[uh.Event(f"{letter} = 1", then=f"{other} = 2")])
    assert run.at(0.5, letter) == run.at(0.5, other)
    assert run.exact_at(0.5)[GREEK] == pytest.approx([4 * np.exp(-1)])
    assert run.at(0.5, letter) == pytest.approx(4 * np.exp(-1), rel=1e-7)
    assert run.at(0.5, f"w{other}") == pytest.approx(8 * np.exp(-1), rel=1e-7)
    assert run.final[GREEK] == pytest.approx(2 * np.exp(-2) * 4, rel=1e-6)
    uh.draw_states(run, [other, f"w{letter}"])


@pytest.mark.parametrize("name", ["a\x1b[31mb", "a\u202eb", "\x00", "a\x7fb"])
def test_names_that_steer_a_terminal_are_refused(name: str) -> None:
    pond = {"initial": {"x": 1}, "interval": (0, 1)}
    events = [uh.Event("x = 0.5", name=name)]
    with pytest.raises(uh.FormulationError, match="the name of an event cannot be this"):
        uh.Problem.from_text("x' = -x", **pond, events=events)
    with pytest.raises(uh.FormulationError, match="the name of an event cannot be this"):
        uh.integrate(uh.Problem.from_text("x' = -x", **pond), events=events)
    with pytest.raises(uh.FormulationError, match="title cannot be this"):
        uh.Problem.from_text("x' = -x", **pond, title=name)


def test_an_event_takes_the_place_of_one_with_its_name() -> None:
    half = uh.Event("x = 0.5", name="half")
    pond = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 3), events=[half, uh.Event("x = 0.25")])
    run = uh.integrate(pond, events=[uh.Event("x = 0.4", name="half"), uh.Event("x = 0.1", name="low")])
    assert list(zip(run.events["name"], run.events["x"].round(6), strict=True)) == [
        ("half", 0.4),
        ("x = 0.25", 0.25),
        ("low", 0.1),
    ]
    with pytest.raises(uh.FormulationError, match="two events are called 'half'"):
        uh.integrate(pond, events=[half, half])
    three = uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial={"u": [1, 1, 1]}, interval=(0, 1))
    cut = uh.integrate(three, events=[uh.Event("u[1] = 0.5", then="u[i] = 0 for i in 2..3")])
    assert cut.states[-1] == pytest.approx([np.exp(-1), 0, 0], rel=1e-6)


def test_problems_whose_states_stand_in_another_order_differ() -> None:
    def rates(t: float, y: np.ndarray) -> list[float]:
        return [-y[0], 2 * y[1]]

    user_input = {"interval": (0, 1), "rates": rates}
    one, other = (uh.Problem.from_rates(initial=each, **user_input) for each in ({"a": 1, "b": 2}, {"b": 2, "a": 1}))
    assert one != other
    assert one == uh.Problem.from_rates(rates, initial={"a": 1, "b": 2}, interval=(0, 1))


def test_a_method_without_what_the_contract_asks_is_refused() -> None:
    class Mine:
        name, family, order = "mine", "runge-kutta", 3

    problem = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1))
    for ask in (uh.integrate, uh.compare, uh.stability, uh.largest_step):
        with pytest.raises(uh.MethodError, match="does not say everything of itself") as refused:
            ask(*([] if ask is uh.stability else [problem]), Mine())
        assert "adaptive" in str(refused.value)


def test_what_is_beyond_all_numbers_has_no_integral() -> None:
    run = uh.integrate(uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1)))
    for quantity in ("exp(1000*x)", "1/(x - x)", "log(-x)"):
        for ask in (run.mean, run.integral):
            with pytest.raises(uh.RunError, match="no finite value all along the window"):
                ask(quantity)
        assert run.extremes(quantity).empty
    assert run.where("exp(1000*x) > 1")["length"].tolist() == [1.0]
    assert run.mean("exp(1000*x)", (0.9, 1)) > 1e150


def test_a_problem_is_printed_as_it_was_said() -> None:
    pond = uh.Problem.from_text(
        "z'' = -k*z + q + free", initial={"z": "80 cm", "z'": 0}, parameters={"k": 2, "free": None},
        interval=(0, "1 min"), units={"z": "m", "t": "s", "k": "1/s^2"}, title="Slosh", conserved=["k*z^2"],
        inputs={"q": uh.Measured([0, 60], [0, 0])}, check_units=False,
        events=[uh.Event("z >= 0.5", name="high", going="up", stop=True)],
    )  # fmt: skip
    assert str(pond).splitlines() == [
        "Slosh", "z'' = -k*z + q + free", "z(0) = 0.8 m", "z'(0) = 0 m/s", "k = 2 1/s^2", "free is open",
        "q: measured, 2 times", "t from 0 to 60 s", "event 'high': z >= 0.5, going up, stops the run",
        "conserved: k*z^2",
    ]  # fmt: skip
    assert str(pond.first_order()) == "(z')' = -k*z + q + free"
