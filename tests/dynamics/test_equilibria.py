"""Equilibria of textbook systems, all of them, with their kinds; and marching to rest."""

from __future__ import annotations

import pickle

import numpy as np
import pytest

import unhurried_heron as uh

SQRT72 = np.sqrt(72.0)
SYSTEMS: dict = {
    # E. N. Lorenz (1963)
    "convection": (
        "x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", {"x": (-20, 20), "y": (-20, 20), "z": (-5, 50)},
        {(-SQRT72, -SQRT72, 27): "saddle focus", (0, 0, 0): "saddle", (SQRT72, SQRT72, 27): "saddle focus"},
    ),
    "pendulum": (
        "x' = v\nv' = -sin(x) - 0.2*v", {"x": (-7, 7), "v": (-1, 1)},
        {(k * np.pi, 0): "saddle" if k % 2 else "stable focus" for k in range(-2, 3)},
    ),
    "without friction": (
        "x' = v\nv' = -sin(x)", {"x": (-4, 4), "v": (-1, 1)},
        {(-np.pi, 0): "saddle", (0, 0): "centre", (np.pi, 0): "saddle"},
    ),
    # two species that compete
    "rivals": (
        "a' = a*(3 - a - 2*b)\nb' = b*(2 - a - b)", {"a": (-1, 4), "b": (-1, 4)},
        {(0, 0): "unstable node", (0, 2): "stable node", (1, 1): "saddle", (3, 0): "stable node"},
    ),
    "fold": ("x' = (x - 1)^2", {"x": (-3, 3)}, {(1,): "not hyperbolic"}),
    "none": ("x' = 1 + x^2", {"x": (-3, 3)}, {}),
    "two sides": ("x' = where(x < 1, 1, 0.5) - 0.25*x", {"x": (-3, 9)}, {(2,): "stable node"}),
    "odd scales": ("x' = 1e12*(x - 1e-9)*(x - 3e-9)", {"x": (0, 1e-8)},
                   {(1e-9,): "stable node", (3e-9,): "unstable node"}),
    "stiff": ("a' = 1e-3*(1 - a)\nb' = 1e6*(a - b)", {"a": (-3, 3), "b": (-3, 3)}, {(1, 1): "stable node"}),
    "many": ("u[i]' = u[i]*(1 - u[i]) for i in 1..3", {f"u[{k}]": (-0.5, 1.5) for k in (1, 2, 3)},
             {(a, b, c): {0: "unstable node", 3: "stable node"}.get(a + b + c, "saddle")
              for a in (0, 1) for b in (0, 1) for c in (0, 1)}),
}  # fmt: skip


@pytest.mark.parametrize("name", SYSTEMS)
def test_all_equilibria_of_textbook_systems(name: str) -> None:
    text, within, wanted = SYSTEMS[name]
    problem = uh.Problem.from_text(text, initial={key.partition("[")[0]: 0.1 for key in within}, interval=(0, 5))
    found = uh.equilibria(problem, within)
    size = np.array([high - low for low, high in within.values()])
    assert len(found) == len(wanted)
    for each, (state, words) in zip(found, sorted(wanted.items()), strict=True):
        slack = 1e-6 if words == "not hyperbolic" else 1e-12
        assert np.abs((each.state - state) / size).max() < slack
        assert all(value == 0.0 for value, exact in zip(each.state, state, strict=True) if exact == 0)
        assert each.words == words
        assert each.stable is (None if words in ("centre", "not hyperbolic") else words.startswith("stable"))
        exact = np.linalg.eigvals(problem.jacobian_at(0, each.state))
        assert np.sort_complex(each.eigenvalues) == pytest.approx(np.sort_complex(exact), abs=1e-9)
    assert found == pickle.loads(pickle.dumps(found))
    assert len(found.frame()) == len(found)
    assert f"{len(found)} equilibri" in str(found)


ROOTS = "x' = " + "*".join(f"(x - {k})" for k in range(1, 10))
RNG = np.random.default_rng(7)
WEIGHTS = RNG.random((4, 4)) + 2 * np.eye(4)


@pytest.mark.long
def test_algebra_misses_none() -> None:
    """Where species compete, each may be absent, and those that are there solve linear equations."""
    line = uh.Problem.from_text(ROOTS, initial={"x": 0.5}, interval=(0, 5))
    found = uh.equilibria(line, {"x": (0, 10)}, starts=1)
    assert ([round(each["x"], 9) for each in found], found.solutions) == (list(range(1, 10)), 9)
    parameters = {f"w{i}{j}": WEIGHTS[i, j] for i in range(4) for j in range(4)}
    text = "\n".join(f"s{i}' = s{i}*(1 - " + " - ".join(f"w{i}{j}*s{j}" for j in range(4)) + ")" for i in range(4))
    rivals = uh.Problem.from_text(
        text, parameters=parameters, initial={f"s{i}": 0.1 for i in range(4)}, interval=(0, 5)
    )
    everywhere = uh.equilibria(rivals, {f"s{i}": (-9, 9) for i in range(4)}, starts=1)
    exact = []
    for mask in range(16):
        there = [i for i in range(4) if mask >> i & 1]
        state = np.zeros(4)
        state[there] = np.linalg.solve(WEIGHTS[np.ix_(there, there)], np.ones(len(there)))
        exact.append(state)
    assert everywhere.solutions == 16
    states = np.array([each.state for each in everywhere])
    assert np.array(sorted(states.round(9).tolist())) == pytest.approx(np.array(sorted(np.round(exact, 9).tolist())))
    # where one of the paths goes to infinity
    text, within, wanted = SYSTEMS["convection"]
    convection = uh.Problem.from_text(text, initial=dict.fromkeys(within, 0.1), interval=(0, 5))
    assert uh.equilibria(convection, within, starts=1).solutions == len(wanted)
    quotient = uh.Problem.from_text("x' = x^2*(1 + x^2)^(-1) + 2*k/(x - 3) - x/4 + k^2.5", parameters={"k": 0.1},
                                    initial={"x": 0.5}, interval=(0, 5))  # fmt: skip
    roots = uh.equilibria(quotient, {"x": (-9, 9)}, starts=1)
    line = np.linspace(-9, 9, 200_001)
    signs = np.sign(line**2 / (1 + line**2) + 0.2 / (line - 3) - line / 4 + 0.1**2.5)
    # the pole changes the sign as well
    assert len(roots) == (np.diff(signs) != 0).sum() - 1
    assert len(roots) > 1
    assert "algebra finds" in str(roots)
    for text in ("x' = sin(x)", "x' = abs(x) - 1", "x' = (x - 1)^2", "x' = x^0.5 - 1"):
        other = uh.Problem.from_text(text, initial={"x": 0.5}, interval=(0, 5))
        assert uh.equilibria(other, {"x": (0, 2)}).solutions is None


def test_functions_have_equilibria_too() -> None:
    function = uh.Problem.from_rates(
        lambda t, x, k: k - x**2, parameters={"k": 4.0}, initial={"x": 1.0}, interval=(0, 1)
    )
    assert [each["x"] for each in uh.equilibria(function, {"x": (-5, 5)})] == pytest.approx([-2, 2], rel=1e-10)


def test_steady_marches_to_rest() -> None:
    tank = uh.Problem.from_text(
        "level' = inflow - leak*level\nslow' = 0.001*(level - slow)", parameters={"inflow": 0.3, "leak": 0.1},
        initial={"level": 0, "slow": 0}, interval=(0, 1),
    )  # fmt: skip
    found = uh.steady(tank)
    assert found.state == pytest.approx([3.0, 3.0], rel=1e-13)
    assert found.words == "stable node"
    assert str(found) == "stable node at level = 3, slow = 3"
    # what is small is not at rest by being near zero, and what is zero throughout has no size
    grows = uh.Problem.from_text("x' = x*(1 - x/1e-6)\ny' = 0", initial={"x": 1e-9, "y": 0}, interval=(0, 1))
    assert uh.steady(grows).state == pytest.approx([1e-6, 0.0], rel=1e-10)
    circles = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 1))
    with pytest.raises(uh.RunError, match="come to rest"):
        uh.steady(circles, seconds=0.3)


@pytest.mark.parametrize(
    ("text", "within"),
    [("x' = -x", {}), ("x' = -x", {"y": (0, 1)}), ("x' = -x", {"x": (1, 0)}), ("x' = -x", {"x": 3}),
     ("x' = sin(t) - x", {"x": (0, 1)}), ("x' = -x", {"x": ("1 m", 2)})],
)  # fmt: skip
def test_what_has_no_equilibria_is_refused(text: str, within: dict) -> None:
    problem = uh.Problem.from_text(text, initial={"x": 1}, interval=(0, 5))
    with pytest.raises(uh.HeronError):
        uh.equilibria(problem, within)


def test_figures_mark_them() -> None:
    rivals = uh.Problem.from_text(SYSTEMS["rivals"][0], initial={"a": 0.2, "b": 0.1}, interval=(0, 9))
    found = uh.equilibria(rivals, SYSTEMS["rivals"][1])
    field = uh.draw_field(rivals, window=((-1, 4), (-1, 4)), equilibria=found).axes[0]
    phase = uh.draw_phase(uh.integrate(rivals), "b", "a", equilibria=found).axes[0]
    for ax, order in ((field, (0, 1)), (phase, (1, 0))):
        marks = [line for line in ax.lines if line.get_linestyle() == "None" and line.get_markersize() == 9]
        points = [(float(line.get_xdata()[0]), float(line.get_ydata()[0])) for line in marks]
        assert points == [(each.state[order[0]], each.state[order[1]]) for each in found]
        labels = [text.get_text() for text in ax.get_legend().get_texts()]
        assert [each for each in labels if "node" in each or "saddle" in each] == [
            "unstable node",
            "stable node",
            "saddle",
        ]
    for bad in (3, found):
        with pytest.raises(uh.OptionError):
            uh.draw_field(rivals, ["t", "a"], window=((0, 1), (0, 1)), equilibria=bad)
