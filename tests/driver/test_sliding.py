"""Solutions that slide along several switches, entered and left one by one, against friction that is smoothed."""

import re
from functools import cache

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.driver.drive import Driver
from unhurried_heron.kernels.memory.control import Reason

ADAPTIVE = representatives(lambda method: method.order > 2)
STEEP = 1e6


def coupled(seed: int) -> tuple[str, dict[str, float], dict[str, float]]:
    """Return equations in which two switches or three move the formulas of each other, so that each may hold some."""
    random = np.random.default_rng(seed)
    m = int(random.integers(2, 4))
    n = m + int(random.integers(0, 2))
    back = np.zeros((m, m))
    while np.linalg.eigvalsh(back + back.T).min() <= 0.3:
        across, push = random.normal(size=(m, n)).round(2), random.normal(size=(n, m)).round(2)
        back = -across @ push
    decay = (random.normal(size=(n, n)) * 0.3 - np.eye(n)).round(2)
    pull, pace = random.uniform(0.3, 2.5, size=n).round(2), random.uniform(0.5, 3, size=n).round(2)
    sides = ["sign(" + " + ".join(f"({row[j]})*x{j}" for j in range(n)) + ")" for row in across]
    lines = [
        f"x{j}' = {pull[j]}*sin({pace[j]}*t) + "
        + " + ".join([f"({decay[j, k]})*x{k}" for k in range(n)] + [f"({push[j, i]})*{sides[i]}" for i in range(m)])
        for j in range(n)
    ]
    return "\n".join(lines), {f"x{j}": float(x) for j, x in enumerate(random.normal(size=n).round(2))}, {}


CASES = {
    "friction that depends on the other": (
        "v' = 2*sin(t) - (0.6 + 0.2*sign(w))*sign(v)\nw' = cos(1.7*t) - (0.4 + 0.3*sign(v))*sign(w)",
        {"v": 0.2, "w": 0.1},
        {},
    ),
    "ten masses": (
        "\n".join(f"v{k}' = {1 + 0.1 * k}*sin(t) - {0.5 + 0.03 * k}*sign(v{k})" for k in range(10)),
        {f"v{k}": 0.0 for k in range(10)},
        {},
    ),
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
    "friction beside a constraint": (
        "v' = 2*sin(t) - (0.6 + drag/4)*sign(v)\nw' = cos(1.7*t) - 0.5*sign(w)\ndrag + drag^3 = 1 + v*w",
        {"v": 0.7, "w": -0.4},
        {},
    ),
    "a bead with friction on a ring": (
        "x'' = -pull*x + rough*sign(v)*y\ny'' = -pull*y - 9 - rough*sign(v)*x + sin(t)\n"
        "v = x*y' - y*x'\nx^2 + y^2 = 1",
        {"x": 0.8, "y": -0.6, "x'": 0.0, "y'": 0.0},
        {"rough": 1.5},
    ),
}  # fmt: skip


def smoothed(text: str) -> str:
    """Return the equations with every sign and step as steep slopes."""
    derivatives = re.sub(r"sign\(([^()]*)\)", rf"tanh({STEEP}*(\1))", text)
    return re.sub(r"step\(([^()]*)\)", rf"(0.5 + 0.5*tanh({STEEP}*(\1)))", derivatives)


@pytest.fixture(scope="module")
def references() -> dict[str, uh.Run]:
    return {
        name: uh.integrate(
            uh.Problem.from_text(smoothed(text), initial=initial, parameters=parameters, interval=(0, 20)),
            "radau-iia-9", rtol=1e-8, record=60,
        )
        for name, (text, initial, parameters) in CASES.items()
    }  # fmt: skip


@cache
def problem_of(case: str) -> uh.Problem:
    text, initial, parameters = CASES[case]
    return uh.Problem.from_text(text, initial=initial, parameters=parameters, interval=(0, 20))


@pytest.mark.parametrize("case", CASES)
@pytest.mark.parametrize("method", ADAPTIVE[::2])
def test_several_switches_hold_a_solution(method: str, case: str, references: dict[str, uh.Run]) -> None:
    run = uh.integrate(problem_of(case), method, rtol=1e-6, record=60)
    assert run.ending.reason == "end", run.ending.message
    assert np.abs(run.states - references[case].states).max() < 2e-4
    assert run.tally.accepted < 20_000


@pytest.mark.parametrize("seed", range(2, 26, 3))
@pytest.mark.long
def test_switches_that_depend_on_each_other(seed: int) -> None:
    # of these some went wrong in silence, some back and forth without end
    (text, initial, _), method = coupled(seed), ADAPTIVE[seed % len(ADAPTIVE)]
    problem = uh.Problem.from_text(text, initial=initial, interval=(0, 6))
    steep = uh.Problem.from_text(smoothed(text), initial=initial, interval=(0, 6))
    reference = uh.integrate(steep, "radau-iia-9", rtol=1e-8, record=60)
    run = uh.integrate(problem, method, rtol=1e-6, record=60)
    assert run.ending.reason == "end", run.ending.message
    assert np.abs(run.states - reference.states).max() < 1e-4


@pytest.mark.parametrize("method", ADAPTIVE)
def test_a_spiral_into_a_corner_ends_there(method: str) -> None:
    """Two switches in turns, faster and faster; both hold the solution then. What ``z`` gains is known."""
    text = "x' = -sign(x) + 2*sign(y)\ny' = -2*sign(x) - sign(y)\nz' = sign(x) + 2*sign(y) + 0.1"
    problem = uh.Problem.from_text(text, initial={"x": 1, "y": 0.3, "z": 0}, interval=(0, 6))
    run = uh.integrate(problem, method, rtol=1e-6)
    gained = np.array([1, 2]) @ np.linalg.solve([[-1, 2], [-2, -1]], [-1, -0.3])
    assert run.states[-1] == pytest.approx([0, 0, gained + 0.6], abs=1e-6)
    assert run.switches["switch"].iloc[-2:].str.endswith("sliding").all()
    back = uh.integrate(problem.with_(interval=(6, 0)), method, rtol=1e-6)
    assert back.ending.reason == "end"


@pytest.mark.parametrize("method", ADAPTIVE[1::2])
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
