"""Cycles with known periods and Floquet multipliers, stable and not, with forcing, jumps and events."""

from __future__ import annotations

import pickle

import numpy as np
import pytest

import unhurried_heron as uh

PLANE = {"x": 1.2, "y": 0.1}
# text, initial, parameters and options, period, multipliers but for the one along the cycle
AROUND: dict = {
    "stable": ("x' = x*(1 - x^2 - y^2) - y\ny' = y*(1 - x^2 - y^2) + x", PLANE, {}, 2 * np.pi, [np.exp(-4 * np.pi)]),
    "unstable": ("x' = x*(x^2 + y^2 - 1)/5 - y\ny' = y*(x^2 + y^2 - 1)/5 + x", PLANE,
                 {"near": {"x": 0.9, "y": 0.1}, "period": 6}, 2 * np.pi, [np.exp(0.8 * np.pi)]),
    # single shooting loses all digits over a turn
    "very unstable": ("x' = 3*x*(x^2 + y^2 - 1) - y\ny' = 3*y*(x^2 + y^2 - 1) + x", PLANE,
                      {"near": {"x": 0.999, "y": 0.01}, "period": 6.3}, 2 * np.pi, [np.exp(12 * np.pi)]),
    "saddle": ("x' = x*(1 - x^2 - y^2) - y\ny' = y*(1 - x^2 - y^2) + x\nz' = 0.2*z", {**PLANE, "z": 0.0}, {}, 2 * np.pi,
               [np.exp(0.4 * np.pi), np.exp(-4 * np.pi)]),
    "without friction": ("x' = y\ny' = -x", PLANE, {}, 2 * np.pi, [1]),
    "backwards": ("x' = x*(x^2 + y^2 - 1) - y\ny' = y*(x^2 + y^2 - 1) + x", PLANE, {"interval": (30, 0)}, 2 * np.pi,
                  [np.exp(-4 * np.pi)]),
    # B. van der Pol's equation, of which the period is known to many digits
    "relaxation": ("x' = y\ny' = (1 - x^2)*y - x", PLANE, {}, 6.66328685932313, [np.exp(-7.0588965)]),
    # the multipliers of what constraints leave free
    "constraint": ("x' = y\ny' = (1 - x^2)*y - z\n0 = z + z^3/10 - x - x^3/10", PLANE, {}, 6.66328685932313,
                   [np.exp(-7.0588965)]),
    "on a circle": (
        "x'' = -pull*x - y*push\ny'' = -pull*y + x*push\npush = 1 - (x*y' - y*x')/2\n0 = x^2 + y^2 - 1",
        {"x": 1.0, "y": 0.0, "x'": 0.0, "y'": 1.2}, {}, np.pi, [np.exp(-np.pi / 2)]),
    "short interval": ("x' = y\ny' = (1 - x^2)*y - x", PLANE, {"interval": (0, 0.5)}, 6.66328685932313, None),
    "twice around": ("x' = y\ny' = (1 - x^2)*y - x", {"x": 2.0, "y": 0.1}, {"near": {"x": 2.0}, "period": 13.4},
                     6.66328685932313, [np.exp(-7.0588965)]),
    "forced": ("x' = y\ny' = -x - 0.3*y + cos(t/2)", PLANE, {"period": 4 * np.pi}, 4 * np.pi,
               np.exp(np.roots([1, 0.3, 1]) * 4 * np.pi)),
    "jumps": ("x' = where(cos(t) > 0, 2, 1) - x", {"x": 1.0}, {"period": 2 * np.pi}, 2 * np.pi, [np.exp(-2 * np.pi)]),
    "small": ("x' = 1e9*(x*(1 - 1e18*(x^2 + y^2)) - y)\ny' = 1e9*(y*(1 - 1e18*(x^2 + y^2)) + x)",
              {"x": 1.2e-9, "y": 1e-10}, {"interval": (0, 3e-8), "atol": 1e-25}, 2e-9 * np.pi, [np.exp(-4 * np.pi)]),
}  # fmt: skip


@pytest.mark.parametrize("name", AROUND)
def test_periods_and_multipliers(name: str) -> None:
    text, initial, options, period, multipliers = AROUND[name]
    options = dict(options)
    problem = uh.Problem.from_text(text, initial=initial, interval=options.pop("interval", (0, 30)))
    found = uh.cycle(problem, **options)
    assert found.period == pytest.approx(period, rel=1e-8)
    assert found.error < 1e-6
    if multipliers is not None:
        own = found.multipliers[np.argsort(np.abs(found.multipliers - 1))]
        # one along the cycle where nothing forces it
        own = own if "period" in options and "near" not in options else own[1:]
        exact = np.array(multipliers)
        assert np.sort(np.abs(own)) == pytest.approx(np.sort(np.abs(exact)), rel=1e-4, abs=1e-6)
        largest = np.abs(exact).max()
        assert found.stable is (None if largest == 1 else bool(largest < 1))
    turn = found.run
    size = np.ptp(turn.states, axis=0)
    assert np.abs(turn.data.trajectory.end_state - found.state) == pytest.approx(0, abs=1e-5 * max(1e-3, *size))
    assert found == pickle.loads(pickle.dumps(found))
    assert f"period {found.period:.6g}"[:10] in str(found)


@pytest.mark.parametrize("kind", ["function", "compiled"])
@pytest.mark.long
def test_cycles_of_functions(kind: str) -> None:
    def rates(t: float, y: np.ndarray) -> np.ndarray:
        return np.array([y[1], (1 - y[0] ** 2) * y[1] - y[0]])

    if kind == "compiled":
        from numba import njit

        rates = njit(rates)
    problem = uh.Problem.from_rates(rates, initial={"x": 1.0, "v": 0.5}, interval=(0, 30))
    assert uh.cycle(problem).period == pytest.approx(6.66328685932313, rel=1e-7)


def test_cycles_through_events_that_act() -> None:
    """A heater between two temperatures: each part of the cycle is an exponential."""
    heater = uh.Problem.from_text(
        "warmth' = heat*10 - 0.5*warmth", initial={"warmth": 8}, parameters={"heat": 1}, interval=(0, 30),
        events=[uh.Event("warmth >= 12", then="heat = 0"), uh.Event("warmth <= 10", then="heat = 1")],
    )  # fmt: skip
    found = uh.cycle(heater)
    assert found.period == pytest.approx(2 * np.log(10 / 8) + 2 * np.log(12 / 10), rel=1e-8)
    assert found.extent("warmth") == pytest.approx((10, 12), rel=1e-8)
    ball = uh.Problem.from_text("h' = v\nv' = -9.81", initial={"h": 1, "v": 0}, interval=(0, 3),
                                events=[uh.Event("h <= 0", then="v = -v")])  # fmt: skip
    again = uh.cycle(ball)
    speed = np.sqrt(2 * 9.81)
    assert again.period == pytest.approx(2 * speed / 9.81, rel=1e-5)
    # just before a jump and just after it
    assert again.extent("v") == pytest.approx((-speed, speed), rel=1e-5)
    largest = uh.sweep(ball, {"h": [1.0, 2.0]}, measures=["largest(v)", "smallest(v)"]).dataset
    assert largest["largest_v"].to_numpy() == pytest.approx(speed * np.sqrt([1, 2]), rel=1e-6)
    assert largest["smallest_v"].to_numpy() == pytest.approx(-speed * np.sqrt([1, 2]), rel=1e-6)


@pytest.mark.parametrize(
    ("text", "options", "words"),
    [
        ("x' = -x\ny' = -y", {}, "equilibrium|come back"),
        ("x' = x\ny' = y", {}, "come back|ends before|equilibrium"),
        ("x' = y\ny' = -x - 0.3*y + cos(t/2)", {}, "period must be known"),
        ("x' = y\ny' = -x - 0.3*y + cos(t/2)", {"period": 4}, "do not repeat"),
        ("x' = y\ny' = -x", {"near": 3}, "no state near"),
        ("x' = y\ny' = -x", {"near": {"z": 3}}, "z"),
        ("x' = y\ny' = -z\n0 = z + z^3 - x", {"near": {"q": 3}}, "'q', which is no state"),
        ("x' = y\ny' = -x", {"period": -3}, "period"),
        ("x' = y\ny' = -x", {"seconds": 0}, "seconds"),
    ],
)
def test_what_has_no_cycle_is_told(text: str, options: dict, words: str) -> None:
    problem = uh.Problem.from_text(text, initial=PLANE, interval=(0, 30))
    with pytest.raises(uh.HeronError, match=words):
        uh.cycle(problem, **{"seconds": 2.0, **options})
