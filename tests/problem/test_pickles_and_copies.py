"""Problems and errors survive pickles, copies, threads and wrong containers; values keep their kinds."""

from __future__ import annotations

import copy
import pickle
import threading
import warnings

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.errors import printable

SAID = {"initial": {"x": 1.0}, "interval": (0, 1)}


def problems() -> list[uh.Problem]:
    table = uh.Measured([0, 0.5, 1], [0, 1, 0])
    chain = "x' = -x\n" + "\n".join(f"d{i} = {f'd{i - 1}' if i else 'x'} + 1" for i in range(600))
    return [
        uh.Problem.from_text("x' = -x + w", inputs={"w": table}, **SAID),
        uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial={"u": np.ones(3)}, interval=(0, 1)),
        uh.Problem.from_text(chain, **SAID),
    ]


@pytest.mark.long
def test_equal_problems() -> None:
    for one, other in zip(problems(), problems(), strict=True):
        for again in (other, pickle.loads(pickle.dumps(one)), copy.deepcopy(one), copy.copy(one)):
            assert one == again
            assert hash(one) == hash(again)
        changed = one.with_(interval=(0, 0.5))
        assert changed != one
        assert changed.fingerprint != one.fingerprint
    assert problems()[0] != problems()[1]
    plain, report = (
        uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), units=units) for units in ({}, {"x": "m"})
    )
    assert plain != report != plain
    lists = [
        uh.Problem.from_text("u[i]' = -i for i in 1..2", initial={"u": start}, interval=(0, 1))
        for start in ([1, 2], [1, 3], [1.0, 2.0])
    ]
    assert lists[0] != lists[1]
    assert lists[0] == lists[2]
    one, other = (
        uh.Problem.from_text("x' = a - b*x", initial={"x": 1}, interval=(0, 1), parameters=values)
        for values in ({"a": 1, "b": 2}, {"b": 2, "a": 1})
    )
    assert one.fingerprint == other.fingerprint
    assert problems()[0] != 5


CHANGES = [
    ("x' = -k*x", {"initial": {"x": "3 km"}}), ("x' = -k*x", {"parameters": {"k": "1 1/min"}}),
    ("x' = -k*x + 0*n", {"parameters": {"n": 5, "k": 2.5}}), ("x' = -k*x", {"initial": {"x": 4}}),
    ("x' = -k*x + u[n]\nu[i]' = -i*u[i] for i in 1..n", {"parameters": {"n": 3}}),
    ("x' = -k*x + u[2]\nu[i]' = -i*u[i] for i in 1..2", {"initial": {"u": [1, 2], "u[2]": 7}}),
    ("x' = -k*x", {"initial": {"x": "k^2"}}), ("x' = -k*x", {"interval": (1, 0)}),
    ("x' = -k*x", {"initial": {"x": [3.0]}}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "changes"), CHANGES, ids=str)
def test_a_changed_copy_is_what_was_said_anew(text: str, changes: dict) -> None:
    user_input = {"initial": {"x": 1.0}, "parameters": {"k": 2}, "interval": (0, 1), "units": {"x": "m", "t": "s"}}
    if "u[" in text:
        user_input["initial"] |= {"u": 1.5}
    if "n" in text.replace(" in ", ""):
        user_input["parameters"] |= {"n": 2}
    changed = uh.Problem.from_text(text, **user_input).with_(**changes)
    anew = {
        **user_input,
        **{key: {**user_input[key], **new} if isinstance(new, dict) else new for key, new in changes.items()},
    }
    fresh = uh.Problem.from_text(text, **anew)
    assert changed == fresh
    assert (changed.initial, changed.parameters) == (fresh.initial, fresh.parameters)
    assert uh.integrate(changed).final == uh.integrate(fresh).final


def every_error(kind: type = errors.HeronError) -> list[type]:
    return [kind, *(each for sub in kind.__subclasses__() for each in every_error(sub))]


@pytest.mark.parametrize("kind", every_error(), ids=lambda kind: kind.__name__)
def test_every_error_can_be_pickled(kind: type) -> None:
    more = {"names": ("a", "b")} if kind.__name__ in ("UndefinedNameError", "OpenParameterError") else {"name": "a"}
    error = kind("a message", location="here", expected="that", **more)
    again = pickle.loads(pickle.dumps(error))
    assert type(again) is kind
    assert str(again) == str(error) == printable(str(error))
    assert again.__dict__ == error.__dict__
    assert copy.deepcopy(error).location == "here"


WRONG = [
    ("from_text", {"equations": None}), ("from_text", {"units": 5}), ("from_text", {"exact": {"x": 5}}),
    ("from_text", {"events": uh.Event("x = 1")}), ("from_text", {"inputs": [1]}), ("from_text", {"initial": 5}),
    ("from_text", {"interval": (0,)}), ("from_text", {"parameters": [1]}), ("from_text", {"units": {"x": 5}}),
    ("from_text", {"initial": {"x": [1, 2, 3]}}),
    ("from_text", {"title": 5}), ("from_rates", {"rates": None}), ("from_rates", {"jacobian": 5}),
    ("from_rates", {"switches": "t = 1"}), ("from_rates", {"derived": 5}), ("from_rates", {"sparsity": "full"}),
    ("from_rates", {"sparsity": np.ones((2, 2))}),
]  # fmt: skip


@pytest.mark.parametrize(("form", "changes"), WRONG, ids=lambda value: str(value)[:30])
def test_wrong_containers_are_refused(form: str, changes: dict) -> None:
    first = {"from_text": {"equations": "x' = -x"}, "from_rates": {"rates": lambda t, x: [-x]}}[form]
    with pytest.raises(errors.FormulationError) as caught:
        getattr(uh.Problem, form)(**{**first, **SAID, **changes})
    assert caught.value.location
    assert caught.value.expected


def test_threads_leave_the_filters_of_warnings_alone() -> None:
    before = list(warnings.filters)

    def formulate() -> None:
        for k in range(8):
            uh.compare(uh.Problem.from_text(f"x' = -{k}*x + sin(t)^2", **SAID), "heun-2", step=0.5)

    threads = [threading.Thread(target=formulate) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert warnings.filters == before


def test_values_keep_their_kinds() -> None:
    problem = uh.Problem.from_text("x' = -k*x", initial={"x": 1}, parameters={"k": "20 1/s"}, interval=(0, "1 s"))
    with pytest.raises(errors.UnitError, match="another kind"):
        uh.integrate(problem, parameters={"k": "20 kg"})
    assert uh.integrate(problem, parameters={"k": "30 1/min"}).problem.parameters["k"] == 0.5


@pytest.mark.parametrize("angle", ["45 deg", "45°", "0.125 turn"])
def test_angles_are_plain_numbers(angle: str) -> None:
    problem = uh.Problem.from_text(
        "theta'' = -g/l*sin(theta + tilt)",
        initial={"theta": angle, "theta'": "10 deg/s"},
        parameters={"g": "9.81 m/s^2", "l": "2 m", "tilt": "180 deg"},
        interval=(0, "10 s"),
    )
    assert problem.initial["theta"] == pytest.approx(np.pi / 4, rel=1e-15)
    assert problem.initial["theta'"] == pytest.approx(np.pi / 18, rel=1e-15)
    assert problem.parameters["tilt"] == pytest.approx(np.pi, rel=1e-15)
    assert problem.units["theta"] == "rad"
    assert problem.check_units() == ()


def test_closed_forms_begin_where_the_states_do() -> None:
    with pytest.raises(errors.ValueGivenError, match="does not begin"):
        uh.Problem.from_text("x' = -x", exact={"x": "2*exp(-t)"}, **SAID)
    for size in (1e-6, 1e6):
        user_input = {"initial": {"x": size}, "interval": (0, 1)}
        with pytest.raises(errors.ValueGivenError, match="does not begin"):
            uh.Problem.from_text("x' = -x", exact={"x": f"1.001*{size}*exp(-t)"}, **user_input)
        assert uh.Problem.from_text("x' = -x", exact={"x": f"(1 + 1e-12)*{size}*exp(-t)"}, **user_input).model.exact
    fixed = uh.Problem.from_text("x' = -x", exact={"x": "exp(-t)"}, **SAID)
    with pytest.warns(uh.ProblemWarning, match="was dropped"):
        assert fixed.with_(initial={"x": 3}).model.exact == {}
    named = uh.Problem.from_text(
        "z'' = -k*z",
        exact={"z": "z_0*cos(sqrt(k)*t) + z_prime_0/sqrt(k)*sin(sqrt(k)*t)"},
        initial={"z": 1, "z'": 0.5},
        parameters={"k": 2},
        interval=(0, 3),
    ).with_(initial={"z": -2, "z'": 1})
    assert uh.compare(named, "dormand-prince-54", rtol=1e-9).rows[0]["largest error"] < 1e-7


def test_arrays_of_states_for_functions() -> None:
    problem = uh.Problem.from_rates(lambda t, y: -y, initial={"u": np.ones((2, 3)), "v": 2.0}, interval=(0, 1))
    assert problem.states == (*(f"u[{i},{j}]" for i in (1, 2) for j in (1, 2, 3)), "v")
    run = uh.integrate(problem, rtol=1e-8)
    assert run["u"].shape == (run.times.size, 2, 3)
    assert run.at(0.5, "u[2,3]") == pytest.approx(np.exp(-0.5), rel=1e-7)
    assert run.at([0.1, 0.2], ["v", "u[1,1]"]).shape == (2, 2)
    for wrong in ("w", "a", None, []):
        with pytest.raises(uh.RunError):
            run.at("a" if wrong is None else 0.5, wrong or "none")
    assert run.at([]).shape == (0, 7)


def test_a_pendulum_as_people_write_it() -> None:
    problem = uh.Problem.from_lagrangian(
        "x = l*sin(th)\ny = -l*cos(th)\nkinetic = m/2*(x'^2 + y'^2)\npotential = m*g*y",
        ["th"],
        initial={"th": 0.5, "th'": 0},
        parameters={"l": 2, "m": 1, "g": 9.81},
        interval=(0, 5),
    )
    assert "= -g*sin(th)/l" in str(problem.first_order())
    energy = uh.integrate(problem, rtol=1e-10)["energy"]
    assert np.ptp(energy) < 1e-8


SPOKEN = [
    ("x' = 1/0", "not finite"), ("x' = 2x", "a * is missing"), ("x' = ln(x)", "log(x)"), ("x' = x*1and 2", "a space"),
    ("x' = heaviside(t)", "step(x)"), ("dx/dt = -x", "x' = "), ("dx/ds = -x", "write t for s"), ("x' = x'(t)", "x'"),
    ("x' = sin(time)", "independent variable is called t"), ('x\' = "a"', "not allowed"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "words"), SPOKEN)
def test_messages_tell_what_to_write(text: str, words: str) -> None:
    with pytest.raises(errors.FormulationError) as caught:
        uh.Problem.from_text(text, **SAID)
    assert words in str(caught.value)
    assert "ʹ" not in str(caught.value)
    assert "at at" not in str(caught.value)


def test_events_of_derivatives_and_relations() -> None:
    events = [uh.Event("y' = 0", name="turns"), uh.Event("y' >= 0", name="rises"), uh.Event("y < 0.9", name="below")]
    problem = uh.Problem.from_text("y' = cos(t)", initial={"y": 0}, interval=(0, 10), events=events)
    found = uh.integrate(problem, rtol=1e-9).events
    times = {name: found["time"][found["name"] == name].tolist() for name in ("turns", "rises", "below")}
    assert times["turns"] == pytest.approx([np.pi / 2, 3 * np.pi / 2, 5 * np.pi / 2], abs=1e-7)
    assert times["rises"] == pytest.approx([3 * np.pi / 2], abs=1e-7)
    assert times["below"] == pytest.approx([np.pi - np.arcsin(0.9), 3 * np.pi - np.arcsin(0.9)], abs=1e-6)


@pytest.mark.parametrize("tableau", [[float("nan")], ["1e999999999"], [float("inf")], 5, [1j]])
def test_tableaux_of_no_numbers(tableau: object) -> None:
    with pytest.raises(uh.MethodError):
        uh.RungeKutta("a", a=[[]], b=tableau, c=[0])
