"""Looking a problem over: everything at once, and every finding true."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.checks.check import check_file
from unhurried_heron.demo import BESIDE, NAMES, demo_file, starter


def found(problem: uh.Problem, about: str) -> list[tuple[str, str]]:
    return [(each.weight, each.message) for each in uh.check(problem).findings if each.about == about]


@pytest.mark.parametrize(
    ("times", "words"), [(3, "0.5, 1.5, 2.5, landed on"), (4, "2.5, 3.5, landed on"),
                         (5, "3.5 and 1 more time, landed on"), (6, "3.5 and 2 more times, landed on")]
)  # fmt: skip
def test_of_many_known_times_the_first_are_shown(times: int, words: str) -> None:
    problem = uh.Problem.from_text("x' = floor(t + 0.5) - x", initial={"x": 0}, interval=(0, times))
    ((_, message),) = found(problem, "switch")
    assert message.endswith(words)


def test_all_six_mistakes_at_once() -> None:
    report, problem = check_file(demo_file("mistakes"))
    assert problem is None
    assert not report.ok
    messages = [each.message for each in report.wrong]
    wanted = ["another kind than 'm'", "unmatched ')'", "did you mean 'width'", "'silt'", "'depth'", "argument of sin"]
    assert len(messages) == len(wanted)
    for words in wanted:
        assert sum(words in message for message in messages) == 1, words
    assert str(report).startswith("Sluice pond with six mistakes\n")
    assert str(report).endswith("6 things wrong")


@pytest.mark.parametrize("name", [*NAMES, *(n.removesuffix(".toml") for n in BESIDE if n == "culvert-energies.toml")])
def test_demo_problems_pass(name: str) -> None:
    report, problem = check_file(demo_file(name))
    assert report.ok, str(report)
    assert problem is not None
    assert uh.Problem.from_file(demo_file(name)).check_units() == ()


def test_the_starter_file_passes(tmp_path: Path) -> None:
    (tmp_path / "mill-race.toml").write_text(starter("mill-race"))
    report, problem = check_file(tmp_path / "mill-race.toml")
    assert report.ok, str(report)
    assert problem is not None
    begun = uh.Problem.from_file(tmp_path / "mill-race.toml")
    assert uh.integrate(begun, **begun.integrate_options).ending.reason == "end"


def test_stiffness_is_estimated_from_the_eigenvalues() -> None:
    text = "x' = -1000*x + y\ny' = -0.1*y"
    stiff = uh.Problem.from_text(text, initial={"x": 1, "y": 1}, interval=(0, 100), units={"t": "d"})
    ((weight, message),) = found(stiff, "stiffness")
    # what runs where nothing is said finds it out by itself
    assert weight == "note"
    assert "0.001 d" in message
    assert "3e+04 steps" in message
    assert "auto changes" in message
    tally = uh.integrate(stiff, "dormand-prince-54", rtol=1e-4).tally
    assert 0.5 < (tally.accepted + tally.refused) / 3e4 < 2
    ((weight, message),) = found(stiff.with_(interval=(0, 0.01)), "stiffness")
    assert weight == "note"
    by_function = uh.Problem.from_rates(
        lambda x, z: [-1000 * x + z, -0.1 * z], initial={"x": 1.0, "z": 1.0}, interval=(0, 100)
    )
    assert "0.001" in found(by_function, "stiffness")[0][1]
    # the start decides
    later = uh.Problem.from_rates(lambda t, z: [-z if t > 1 else -1e6 * z], initial={"z": 1}, interval=(0, 10))
    assert "1e-06" in found(later, "stiffness")[0][1]
    full = "a Python function, its Jacobian taken as full"
    assert [found(each, "size") for each in (by_function, later)] == [
        [("note", f"2 states; {full}")],
        [("note", f"1 state; {full}")],
    ]


def test_suspicious_starts() -> None:
    def at(text: str, **initial: float) -> uh.Problem:
        return uh.Problem.from_text(text, initial=initial, interval=(0, 1))

    assert found(at("x' = log(x - 1)", x=0.5), "initial")[0] == (
        "wrong",
        "the rate of x is not finite at the start: look for a root or logarithm of a negative number, or a "
        "division by zero",
    )
    assert str(uh.check(at("x' = 1/x", x=0))).endswith("1 thing wrong")
    # of a function, too, whose units are not asked for
    early = uh.Problem.from_rates(lambda t, y, k: [k / t if t else np.inf], initial={"x": 1}, interval=(0, 1),
                                  parameters={"k": 2}, units={"x": "m"})  # fmt: skip
    assert "not finite at the start" in found(early, "initial")[0][1]
    assert found(early, "units") == []
    assert found(at("x' = sqrt(x)", x=0), "stiffness")[0] == ("doubtful", "the Jacobian is not finite at the start")
    assert "equilibrium" in found(at("x' = x*(1 - x)", x=1), "initial")[0][1]
    assert not found(at("x' = x*(1 - x)", x=0.5), "initial")


def test_zero_with_a_relative_tolerance_alone(tmp_path: Path) -> None:
    text = "equations = \"x' = 1\\ny' = x\"\n[interval]\nfrom = 0\nto = 1\n[initial]\nx = 0\ny = 1\n"
    text += "[integrate]\nrtol = 1e-6\n"
    for atol, doubts in (("atol = 0\n", 1), ("", 0)):
        (tmp_path / "zero.toml").write_text(text + atol)
        report, _ = check_file(tmp_path / "zero.toml")
        assert sum("starts at zero" in each.message for each in report.findings) == doubts


def test_the_method_of_a_file(tmp_path: Path) -> None:
    text = 'equations = "x\' = -k*x"\n[parameters]\nk = 1e6\n[interval]\nfrom = 0\nto = 1\n'
    text += "[initial]\nx = 1\n[integrate]\nmethod = "
    for method, weight, words in (("radau-iia-5", "note", "the right kind"), ("heun-2", "doubtful", "Try method")):
        (tmp_path / "fast.toml").write_text(f'{text}"{method}"\n')
        report, _ = check_file(tmp_path / "fast.toml")
        (stiff,) = [each for each in report.findings if each.about == "stiffness"]
        assert stiff.weight == weight
        assert words in stiff.message
    (tmp_path / "fast.toml").write_text(text + '"radau"\n')
    assert "no method 'radau'" in str(check_file(tmp_path / "fast.toml")[0].wrong)
    with pytest.raises(uh.OptionError, match="no problem"):
        uh.check("x' = 1")


def test_size_and_open_parameters_are_told() -> None:
    problem = uh.Problem.from_text(
        "u[i]' = k*(u[i+1] - u[i]) for i in 1..n\nu[n+1] = 0",
        initial={"u": 1},
        parameters={"k": None, "n": 50},
        interval=(0, 1),
    )
    assert found(problem, "parameters") == [("note", "still open: k")]
    assert found(problem, "size") == [("note", "50 states; 99 of the Jacobian's 2,500 entries can be nonzero (3.96 %)")]
    patterned = uh.Problem.from_rates(
        lambda t, y: -y, initial=dict.fromkeys("abc", 1.0), interval=(0, 1), sparsity=np.eye(3)
    )
    assert patterned.jacobian_pattern().nnz == 3


def test_a_jacobian_of_ones_own() -> None:
    calls = []

    def derivatives(x, v, k):
        calls.append(x)
        return [[0.0, 1.0], [-k, -0.2]]

    user_input = {"initial": {"x": 1.0, "v": 0.0}, "parameters": {"k": 4.0}, "interval": (0, 5)}
    given = uh.Problem.from_rates(lambda x, v, k: [v, -k * x - 0.2 * v], jacobian=derivatives, **user_input)
    written = uh.Problem.from_text("x' = v\nv' = -k*x - 0.2*v", **user_input)
    one, other = (uh.integrate(problem, "radau-iia-5", rtol=1e-8) for problem in (given, written))
    assert one.final["x"] == pytest.approx(other.final["x"], rel=1e-12)
    assert one.tally.rate_evaluations == other.tally.rate_evaluations
    assert len(calls) == one.tally.jacobians + 1
    with pytest.raises(uh.FormulationError, match="no Jacobian"):
        uh.Problem.from_rates(lambda x, v, k: [v, -x], jacobian=lambda x: [1.0, 2.0], **user_input)


def test_derived_quantities_as_functions() -> None:
    problem = uh.Problem.from_rates(
        lambda t, y: [y[1], -y[0]],
        initial={"x": 0.0, "v": 1.0},
        interval=(0, 1),
        derived={"energy": "x^2/2 + v^2/2", "phase": lambda x, v: np.arctan2(x, v)},
    )
    run = uh.integrate(problem, rtol=1e-10)
    assert problem.derived == ("energy", "phase")
    assert run["phase"] == pytest.approx(run.times, abs=1e-8)
    assert run.frame()["energy"].to_numpy() == pytest.approx(np.full(run.times.size, 0.5), rel=1e-8)


@pytest.mark.parametrize("count", [1, 2, 3])
def test_one_and_several_are_told_apart(count: int, tmp_path: Path) -> None:
    each, s = range(count), "s" * (count > 1)
    # constraints that are differentiated once, twice, three times
    chain = [f"x{k}' = x{k + 1}" for k in each[:-1]] + [f"x{count - 1}' = f", "x0 = sin(t)"]
    chain += [f"z{k}' = -z{k}" for k in each]
    bound = uh.Problem.from_text("\n".join(chain), initial={f"z{k}": 1 for k in each}, interval=(0, 1))
    hidden = ["it holds", "it and 1 hidden one hold", "it and 2 hidden ones hold"][count - 1]
    assert [message for _, message in found(bound, "constraint")] == [
        "'x0 = sin(t)' is solved for f",
        f"'x0 = sin(t)' tells its unknown after {count} derivative{s}; {hidden} after every step",
        f"index {count + 1}, {count} degree{s} of freedom: as many starting values can be chosen",
    ]
    rows = uh.Problem.from_rates(lambda t, y: -y, initial={f"y{k}": 1.0 for k in range(count + 1)}, interval=(0, 1),
                                 mass=np.diag([0.0] * count + [1.0]))  # fmt: skip
    assert found(rows, "mass matrix")[0][1].startswith(f"with {count} row{s} of zeros, ")
    turning = uh.Problem.from_text("\n".join(f"z{k}' = i*z{k}" for k in each), initial={f"z{k}": 1 + 0j for k in each},
                                   interval=(0, 1))  # fmt: skip
    names = ", ".join(f"z{k}" for k in each)
    assert found(turning, "complex")[0][1].startswith(f"{names} {'are' if count > 1 else 'is'} complex: ")
    # of states at zero, a little above ten times the tolerance, and a little below
    starts = {"x": 0.0, "y": 0.0101, "z": -0.0099}
    lines = [f"{name}{k}' = 1" for name in starts for k in each]
    values = [f"{name}{k} = {value}" for name, value in starts.items() for k in each]
    for atol, about, name, words in ((0, "initial", "x", "at zero"), (1e-3, "tolerance", "z", "below ten times")):
        text = 'equations = """\n' + "\n".join(lines) + '\n"""\n[initial]\n' + "\n".join(values)
        (tmp_path / "a.toml").write_text(f"{text}\n[interval]\nfrom = 0\nto = 1\n[integrate]\natol = {atol}\n")
        (message,) = [each.message for each in check_file(tmp_path / "a.toml")[0].findings if each.about == about]
        assert message.startswith(f"{', '.join(f'{name}{k}' for k in each)} start{'s' * (count == 1)} {words}")
    kinks = uh.Problem.from_text("\n".join(f"x{k}' = abs(x{k} - 1)" for k in range(12 + count - 1)),
                                 initial={f"x{k}": 0 for k in range(12 + count - 1)}, interval=(0, 1))  # fmt: skip
    more = [] if count == 1 else [f"and {count - 1} more: problem.switches has all"]
    assert [message for _, message in found(kinks, "switch")][12:] == more


@pytest.mark.parametrize("way", [1.0, -1.0])
@pytest.mark.parametrize(
    ("decay", "swing"), [(1.0, 0.0), (1.0, 3.0), (0.0, 3.0), (-1.0, 3.0), (4.0, 50.0), (-2.0, 0.0)]
)
def test_decay_and_swing_are_those_of_the_eigenvalues(decay: float, swing: float, way: float) -> None:
    # eigenvalues -decay ± i swing, in either direction of time
    text = "x' = way*(-decay*x + swing*y)\ny' = way*(-swing*x - decay*y)"
    values = {"decay": decay, "swing": swing, "way": way}
    problem = uh.Problem.from_text(text, initial={"x": 1, "y": 0}, interval=(0, 10 * way), parameters=values,
                                   units={"t": "h"})  # fmt: skip
    swings = f"; the fastest swing takes {2 * np.pi / swing:.3g} h" if swing else ""
    ((weight, message),) = found(problem, "stiffness")
    assert weight == "note"
    if decay <= 0:
        assert message == f"nothing decays at the start{swings}; an explicit method will do"
    else:
        begin = f"not stiff at the start: the fastest decay takes {1 / decay:.3g} h{swings}; an explicit method needs"
        assert message.startswith(begin)


def test_parameters_without_units_are_named() -> None:
    problem = uh.Problem.from_text(
        "x' = -k*x*share + c*u[1]/other\nu[i]' = -k*u[i] for i in 1..n",
        initial={"x": "2 m", "u": "1 m"}, interval=(0, 1),
        parameters={"k": "1 1/s", "c": 3, "share": "0.5", "other": "c*2", "n": 2}, units={"t": "s", "share": ""},
    )  # fmt: skip
    assert found(problem, "units")[-1][1] == "not declared, so not checked: c"


@pytest.mark.parametrize(
    ("equations", "initial", "shown"),
    [("x' = -x", {"x": 1}, False), ("x'' = -x", {"x": 1, "x'": 0}, True), ("0 = x' + x", {"x": 1}, True)],
)
def test_a_system_that_was_made_is_shown(equations: str, initial: dict, shown: bool) -> None:
    report = uh.check(uh.Problem.from_text(equations, initial=initial, interval=(0, 1)))
    assert bool(report.first_order) == shown
