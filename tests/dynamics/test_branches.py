"""Branches of equilibria: folds, branch points and Hopf points against closed forms, and against single equilibria."""

from __future__ import annotations

import pickle

import numpy as np
import pytest

import unhurried_heron as uh

FOLD = 2 / (3 * np.sqrt(3))
CONVECTION = "x' = 10*(y - x)\ny' = x*(rate - z) - y\nz' = x*y - 8/3*z"
HOPF = 10 * (10 + 8 / 3 + 3) / (10 - 8 / 3 - 1)
LINE: dict = {"x": (-3, 3)}
# text, box, parameter and range, its bifurcations in their order, how many branches there are
SYSTEMS: dict = {
    "fold": ("x' = r - x^2", LINE, {"r": (-1, 4)}, [("fold", 0, 0)], 1),
    "two folds": ("x' = r + x - x^3", LINE, {"r": (-2, 2)}, [("fold", -FOLD, None), ("fold", FOLD, None)], 1),
    "transcritical": ("x' = r*x - x^2", LINE, {"r": (-1, 2)}, [("branch point", 0, 0)], 2),
    "on the border": ("x' = r*x - x^2", {"x": (0, 3)}, {"r": (-1, 2)}, [("branch point", 0, 0)], 2),
    "pitchfork": ("x' = r*x - x^3", LINE, {"r": (-1, 4)}, [("branch point", 0, 0)], 2),
    "subcritical": ("x' = r*x + x^3 - x^5", LINE, {"r": (-1, 1)},
                    [("fold", -0.25, -np.sqrt(0.5)), ("fold", -0.25, np.sqrt(0.5)), ("branch point", 0, 0)], 2),
    "closed": ("x' = 1 - x^2 - r^2", LINE, {"r": (-2, 2)}, [("fold", -1, 0), ("fold", 1, 0)], 1),
    "corner": ("x' = r - abs(x)", LINE, {"r": (-1, 2)}, [("corner", 0, 0)], 1),
    "no corner": ("x' = r - max(x, 0.5*x)", LINE, {"r": (-1, 2)}, [], 1),
    "jump": ("x' = r - x + where(x > 0, 1, 0)", LINE, {"r": (-1, 1)}, [], 2),
    "none": ("x' = 1 + r^2 + x^2", LINE, {"r": (-1, 1)}, [], 0),
    "two reactants": ("x' = 1.3 - (r + 1)*x + x^2*y\ny' = r*x - x^2*y", {"x": (0, 4), "y": (0, 6)}, {"r": (0.5, 5)},
                      [("Hopf", 2.69, 1.3)], 1),
    "convection": (CONVECTION.replace("rate", "r"), {"x": (-20, 20), "y": (-20, 20), "z": (-5, 50)}, {"r": (0, 30)},
                   [("branch point", 1, 0), ("Hopf", HOPF, -np.sqrt(8 / 3 * (HOPF - 1))),
                    ("Hopf", HOPF, np.sqrt(8 / 3 * (HOPF - 1)))], 2),
    "ends": ("x' = sqrt(r) - x", LINE, {"r": (-1, 4)}, [], 1),
    "small scales": ("x' = 1e9*(r - 1e12*x^2)", {"x": (-1e-9, 1e-9)}, {"r": (-1e-7, 4e-7)}, [("fold", 0, 0)], 1),
    "follows": ("x' = other - x^2", LINE, {"r": (-1, 4)}, [("fold", 0.5, 0)], 1),
    "indexed": ("u[i]' = r - u[i]^2 + 0*i for i in 1..2", {"u[1]": (-3, 3), "u[2]": (-3, 3)}, {"r": (0.5, 4)}, [], 4),
}  # fmt: skip


def problem_of(name: str) -> tuple[uh.Problem, dict, dict]:
    text, within, over, *_ = SYSTEMS[name]
    initial = {key.partition("[")[0]: 0.0 for key in within}
    parameters = {"r": 1.0, **({"other": "2*r - 1"} if "other" in text else {})}
    return uh.Problem.from_text(text, parameters=parameters, initial=initial, interval=(0, 5)), within, over


@pytest.mark.parametrize("name", SYSTEMS)
@pytest.mark.long
def test_bifurcations_of_textbook_systems(name: str) -> None:
    problem, within, over = problem_of(name)
    wanted, count = SYSTEMS[name][3:]
    found = uh.equilibria(problem, within, over=over)
    (low, high), first = over["r"], next(iter(within))
    assert len(found) == count
    key = [(each.kind, each.value, each[first]) for each in found.bifurcations]
    for (kind, value, state), (kind_wanted, value_wanted, state_wanted) in zip(
        sorted(key), sorted(wanted), strict=True
    ):
        assert kind == kind_wanted
        assert value == pytest.approx(value_wanted, rel=1e-9, abs=1e-9 * (high - low))
        size = within[first][1] - within[first][0]
        assert state_wanted is None or state == pytest.approx(state_wanted, rel=1e-7, abs=1e-7 * size)
    for branch in found:
        assert branch.values.min() >= low
        assert branch.values.max() <= high
        sides = np.array([*within.values()])
        slack = 1e-8 * (sides[:, 1] - sides[:, 0])
        assert ((branch.states >= sides[:, 0] - slack) & (branch.states <= sides[:, 1] + slack)).all()
        assert [part.stop for _, part in branch.stretches][-1] == branch.values.size
    assert found == pickle.loads(pickle.dumps(found))
    assert len(found.frame()) == sum(branch.values.size for branch in found)
    assert found.in_time
    assert f"{count} branch" in str(found)
    # they pass through all equilibria of each value

    for share in (0.271, 0.518, 0.903):
        value = low + share * (high - low)
        there = uh.equilibria(problem.with_(parameters={"r": value, **({"other": 2 * value - 1} if name == "follows"
                                                                         else {})}), within)  # fmt: skip
        passed = [np.abs(np.diff((branch.values > value).astype(int))).sum() for branch in found]
        assert sum(passed) == len(there)
        for each in there:
            near = min(np.abs(branch.states - each.state).max(axis=1).min() for branch in found)
            assert near <= 0.05 * max(high - low for low, high in within.values())


@pytest.mark.long
def test_cycles_are_born_stable_or_not() -> None:
    """The cubic term of the normal form decides it: Y. A. Kuznetsov (2004), section 3.4."""
    # in the plane by the sign of f_xxx + f_xyy + g_xxy + g_yyy + (f_xy (f_xx + f_yy) - g_xy (g_xx + g_yy) - f_xx g_xx
    # + f_yy g_yy)/w (the same, section 3.5)
    for f, g in (("x*(x^2 + y^2)", "y*(x^2 + y^2)"), ("x*y^2", "0"), ("x^3", "0"), ("0", "x^2*y"), ("0", "y^3"),
                 ("s*x*y + x^2", "0"), ("0", "x^2 - s*x*y"), ("s*x^2", "-x^2"), ("s*y^2", "y^2")):  # fmt: skip
        for sign, words in ((-1, "supercritical"), (1, "subcritical")):
            f_own, g_own = (each if "s*" in f + g else f"s*({each})" for each in (f, g))
            normal = uh.Problem.from_text(f"x' = r*x - 2*y + {f_own}\ny' = 2*x + r*y + {g_own}", interval=(0, 5),
                                          parameters={"r": 0.1, "s": sign}, initial={"x": 0.1, "y": 0})  # fmt: skip
            box = {"x": (-0.3, 0.3), "y": (-0.3, 0.3)}
            found = uh.equilibria(normal, box, over={"r": (-0.3, 0.2)}, starts=8).bifurcations
            (hopf,) = (each for each in found if each.kind == "Hopf")
            assert hopf.words == f"Hopf point, {words}", (f, g)
            assert hopf.period == pytest.approx(np.pi, rel=1e-10)
            assert str(hopf) == f"Hopf point, {words} at r = 0"


@pytest.mark.long
def test_functions_and_units_have_branches() -> None:
    function = uh.Problem.from_rates(lambda t, x, k: k - x**2, parameters={"k": 4.0}, initial={"x": 1.0},
                                     interval=(0, 1))  # fmt: skip
    (fold,) = uh.equilibria(function, {"x": (-5, 5)}, over={"k": (-1, 6)}).bifurcations
    assert (fold.kind, fold.value) == ("fold", pytest.approx(0, abs=1e-9))
    tank = uh.Problem.from_text("level' = inflow/area - leak*level", initial={"level": "1 m"}, interval=(0, "1 h"),
                                parameters={"inflow": "2 m^3/h", "area": "4 m^2", "leak": "0.1 1/h"})  # fmt: skip
    found = uh.equilibria(tank, {"level": (0, "9 m")}, over={"inflow": ("500 L/h", 3)})
    assert (found.over, len(found)) == ((0.5, 3.0), 1)
    assert found[0].states[[0, -1], 0] == pytest.approx([0.5 / 0.4, 3 / 0.4])
    assert found[0].stable.all()


@pytest.mark.long
def test_budgets_end_with_what_was_found() -> None:
    problem, within, over = problem_of("convection")
    for options in ({"over": over}, {}):
        found = uh.equilibria(problem, within, seconds=1e-3, **options)
        assert not found.in_time
        assert "the time was used up" in str(found)


@pytest.mark.long
def test_constraints_have_fewer_eigenvalues() -> None:
    held = uh.Problem.from_rates(
        lambda t, x, y, k: np.array([y - x, x * x - k]), parameters={"k": 1.0}, initial={"x": 1.0, "y": 0.0},
        interval=(0, 1), mass=np.array([[1.0, 0], [0, 0]]),
    )  # fmt: skip
    assert [each.named for each in uh.equilibria(held, {"x": (-2, 2), "y": (-2, 2)}, starts=16)] == [
        {"x": pytest.approx(side), "y": pytest.approx(side)} for side in (-1, 1)
    ]
    (fold,) = uh.equilibria(held, {"x": (-2, 2), "y": (-2, 2)}, over={"k": (-1, 1)}, starts=16).bifurcations
    assert (fold.kind, fold.value) == ("fold", pytest.approx(0, abs=1e-9))


@pytest.mark.parametrize("study", [uh.cycle, uh.exponents, uh.steady])
def test_options_that_studies_choose_are_refused(study) -> None:
    with pytest.raises(uh.OptionError, match="itself"):
        study(problem_of("fold")[0], record=3)


@pytest.mark.parametrize("over", [{}, {"q": (0, 1)}, {"r": (1, 0)}, {"r": 3}, {"r": (0, 1), "s": (0, 1)}, 3])
def test_ranges_that_are_none_are_refused(over: object) -> None:
    with pytest.raises(uh.OptionError):
        uh.equilibria(problem_of("fold")[0], LINE, over=over)


def test_figures_show_branches_and_cycles() -> None:
    problem, within, over = problem_of("two reactants")
    found = uh.equilibria(problem, within, over=over)
    around = [uh.cycle(problem.with_(parameters={"r": r}, interval=(0, 60))) for r in (3, 3.5)]
    figure = uh.draw_branches(found, "y", cycles=around)
    (ax,) = figure.axes
    lines = {line.get_label(): line for line in ax.lines}
    assert lines["stable"].get_xdata()[[0, -1]] == pytest.approx([0.5, 2.69])
    assert lines["unstable"].get_xdata()[[0, -1]] == pytest.approx([2.69, 5])
    assert lines["Hopf point, supercritical"].get_ydata() == pytest.approx([2.69 / 1.3])
    dots = lines["stable cycle, largest and smallest"]
    assert dots.get_xdata().tolist() == [3, 3.5, 3, 3.5]
    assert sorted(dots.get_ydata()) == pytest.approx(sorted(end for each in around for end in each.extent("y")))
    for bad in ({"branches": 3}, {"names": ("z",)}, {"cycles": [3]}):
        with pytest.raises(uh.OptionError):
            uh.draw_branches(bad.get("branches", found), *bad.get("names", ()), cycles=bad.get("cycles", ()))


def test_sections_over_a_parameter() -> None:
    """A period is doubled and doubled again (O. E. Rössler, 1976): more and more points in a section."""
    spiral = uh.Problem.from_text(
        "x' = -y - z\ny' = x + 0.2*y\nz' = 0.2 + z*(x - c)", initial={"x": 1, "y": 1, "z": 0}, interval=(0, 600),
        parameters={"c": 2.5}, events=[uh.Event("y = 0", name="round", going="down")],
    )  # fmt: skip
    found = uh.sweep(spiral, {"c": [2.5, 3.5, 4.0]}, record=2)
    (ax,) = uh.draw_sections(found, "round", "x", after=400).axes
    (line,) = ax.lines
    counts = [len({round(x, 1) for x in line.get_ydata()[line.get_xdata() == c]}) for c in (2.5, 3.5, 4.0)]
    assert counts == [1, 2, 4]
    for bad in ({"event": "no"}, {"name": "no"}, {"after": "x"}, {"after": [1]}):
        with pytest.raises(uh.HeronError):
            uh.draw_sections(found, bad.get("event", "round"), bad.get("name"), after=bad.get("after"))
    with pytest.raises(uh.OptionError):
        uh.draw_sections(uh.sweep(spiral, {"c": [2, 3], "x": [1, 2]}, record=2), "round")
