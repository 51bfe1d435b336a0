"""Solutions that slide along several switches, entered and left one by one, against friction that is smoothed."""

import re

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.kernels.memory.control import Reason
from unhurried_heron.march.driver import Driver
from unhurried_heron.methods.catalogue import all_methods

ADAPTIVE = [method.name for method in all_methods() if method.adaptive and method.order > 2]
STEEP = 1e6

CASES = {
    "two levels": ("a' = 1 - 2*step(a - 1)\nb' = 0.5 - 1.5*step(b - 1)", {"a": 0.0, "b": 0.0}, {}),
    "two masses": (
        "x'' = -x - mu*sign(x')\ny'' = -2*y - mu*sign(y')",
        {"x": 2.0, "x'": 0, "y": 1.5, "y'": 0},
        {"mu": 0.3},
    ),
    "two coupled masses": (
        "x'' = -x + c*(y - x) - mu*sign(x')\ny'' = -2*y + c*(x - y) - mu*sign(y')",
        {"x": 2.0, "x'": 0, "y": 1.5, "y'": 0},
        {"mu": 0.3, "c": 0.5},
    ),
    "a crate on a cart": (
        "v' = force - mu*sign(v - u)\nu' = mu*sign(v - u) - m*sign(u)\nforce = 0.5*sin(t)",
        {"v": 1.0, "u": 0.0},
        {"mu": 0.4, "m": 0.3},
    ),
    "three masses in turns": (
        "a' = sin(t) - 0.5*sign(a)\nb' = sin(2*t) - 0.7*sign(b)\nc' = cos(t) - 0.6*sign(c) + 0.2*sign(a)",
        {"a": 0.3, "b": -0.2, "c": 0.1},
        {},
    ),
}  # fmt: skip


def smoothed(text: str) -> str:
    """Return the equations with every sign and step as steep slopes."""
    slopes = re.sub(r"sign\(([^()]*)\)", rf"tanh({STEEP}*(\1))", text)
    return re.sub(r"step\(([^()]*)\)", rf"(0.5 + 0.5*tanh({STEEP}*(\1)))", slopes)


@pytest.fixture(scope="module")
def references() -> dict[str, uh.Run]:
    return {
        name: uh.integrate(
            uh.Problem.from_text(smoothed(text), initial=initial, parameters=parameters, interval=(0, 20)),
            "radau-iia-9", rtol=1e-8, record=60,
        )
        for name, (text, initial, parameters) in CASES.items()
    }  # fmt: skip


@pytest.mark.parametrize("case", CASES)
@pytest.mark.parametrize("method", ADAPTIVE)
def test_several_switches_hold_a_solution(method: str, case: str, references: dict[str, uh.Run]) -> None:
    text, initial, parameters = CASES[case]
    problem = uh.Problem.from_text(text, initial=initial, parameters=parameters, interval=(0, 20))
    run = uh.integrate(problem, method, rtol=1e-6, record=60)
    assert run.ending.reason == "end", run.ending.message
    assert np.abs(run.states - references[case].states).max() < 2e-4
    assert run.tally.accepted < 20_000


@pytest.mark.parametrize("method", ADAPTIVE)
def test_how_a_march_is_cut_into_slices_changes_nothing(method: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Slices follow the clock, results must not."""
    crate, (ball, drain) = CASES["a crate on a cart"], CASES["two levels"][:2]
    problems = [
        uh.Problem.from_text(crate[0], initial=crate[1], parameters=crate[2], interval=(0, 10)),
        uh.Problem.from_text(ball + "\nh' = 0.1*sin(t) - 0.5*sign(h)*sqrt(abs(h))", initial=drain | {"h": 1},
                             interval=(0, 10), events=[uh.Event(every=0.7, then="h = h + 0.1")]),
    ]  # fmt: skip
    whole = [uh.integrate(each, method, rtol=1e-5) for each in problems]
    genuine, paces = Driver._next_slice, np.random.default_rng(0)

    def short(driver: Driver) -> Reason:
        driver.march.pace = int(paces.choice([1, 2, 7]))
        return genuine(driver)

    monkeypatch.setattr(Driver, "_next_slice", short)
    for problem, run in zip(problems, whole, strict=True):
        again = uh.integrate(problem, method, rtol=1e-5)
        assert again.ending == run.ending
        assert np.array_equal(again.times, run.times)
        assert np.array_equal(again.states, run.states)
        assert again.switches.equals(run.switches)
