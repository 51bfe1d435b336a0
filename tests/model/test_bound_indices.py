"""Sums within sums through derived quantities and boundary equations, with few index names, against plain Python."""

import cmath
import random
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

import unhurried_heron as uh

Env = dict[str, Any]
Value = Callable[[Env], complex]
LETTERS = ("s", "k")


class System:
    """A random system of three members with boundary members u[0] and u[4], as text and as Python closures."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)
        self.scalars: list[str] = []
        self.inner = True
        self.lines, self.meaning = [], {}
        self.meaning["u[0]"] = self.line("u[0]", {}, 2)
        self.meaning["u[4]"] = self.line("u[4]", {}, 2)
        self.inner = False
        for name in ("w", "v"):
            self.meaning[name] = self.line(name, {}, 3)
            self.scalars.append(name)
        self.family = self.line("d[i]", {"i": (0, 4)}, 2, " for i in 0..4")
        self.scalars.append("d")
        self.rate = self.line("u[i]'", {"i": (1, 3)}, 3, " for i in 1..3")
        text, self.jump = self.expression({}, 3)
        self.then = f"u[2] = {text}"

    def line(self, left: str, scope: dict[str, tuple[int, int]], depth: int, ranges: str = "") -> Value:
        text, value = self.expression(scope, depth)
        self.lines.append(f"{left} = {text}{ranges}")
        return value

    def member(self, scope: dict[str, tuple[int, int]]) -> tuple[str, Callable[[Env], int]]:
        letter, shift = self.random.choice([*scope, ""]), self.random.randint(-1, 1)
        low, high = (1, 3) if self.inner else (0, 4)
        if not letter or scope[letter][0] + shift < low or scope[letter][1] + shift > high:
            index = self.random.randint(low, high)
            return str(index), lambda env: index
        return f"{letter}{shift:+d}" if shift else letter, lambda env: env[letter] + shift

    def expression(self, scope: dict[str, tuple[int, int]], depth: int) -> tuple[str, Value]:
        kind = self.random.choice("nuud" if depth == 0 else "uudiaamgsss")
        if kind == "i" and scope:
            letter = self.random.choice(list(scope))
            return letter, lambda env: env[letter]
        if kind == "d" and self.scalars:
            name = self.random.choice(self.scalars)
            if name != "d":
                return name, lambda env: self.meaning[name]({"y": env["y"]})
            index, position = self.member(scope)
            return f"d[{index}]", lambda env: self.family({"y": env["y"], "i": position(env)})
        if kind in "am":
            (a, f), (b, g) = self.expression(scope, depth - 1), self.expression(scope, depth - 1)
            if kind == "a":
                return f"({a} + {b})", lambda env: f(env) + g(env)
            return f"{a}*{b}/4", lambda env: f(env) * g(env) / 4
        if kind == "g":
            a, f = self.expression(scope, depth - 1)
            return f"sin({a})", lambda env: cmath.sin(f(env))
        if kind == "s":
            letter, first = self.random.choice(LETTERS), self.random.randint(1, 2)
            last = self.random.randint(first, 3)
            a, f = self.expression({**scope, letter: (first, last)}, depth - 1)
            return (
                f"sum({a} for {letter} in {first}..{last})",
                lambda env: sum(f({**env, letter: position}) for position in range(first, last + 1)),
            )
        if kind == "n" or (kind in "di" and self.random.random() < 0.5):
            return "0.5", lambda env: 0.5
        index, position = self.member(scope)
        return f"u[{index}]", lambda env: self.state(env, position(env))

    def state(self, env: Env, index: int) -> complex:
        return env["y"][index - 1] if 1 <= index <= 3 else self.meaning[f"u[{index}]"]({"y": env["y"]})

    def rates(self, y: Any) -> Any:
        return np.array([self.rate({"y": y, "i": index}) for index in (1, 2, 3)])


def compare(seed: int, *, marches: bool) -> None:
    system, y = System(seed), np.array([0.3, -0.2, 0.45])
    text = "\n".join(system.lines)
    problem = uh.Problem.from_text(
        text,
        initial={f"u[{k + 1}]": float(value) for k, value in enumerate(y)},
        interval=(0, 1e-6),
        events=[uh.Event(at=1e-6, then=system.then, name="jump")],
    )
    report = f"seed {seed}:\n{text}\n{system.then}"
    true = system.rates(y).real
    np.testing.assert_allclose(problem.rates_at(0, y), true, rtol=1e-12, atol=1e-13, err_msg=report)
    columns = [system.rates(y + 1e-30j * np.eye(3)[k]).imag / 1e-30 for k in range(3)]
    derivatives = np.stack(columns, axis=1)
    np.testing.assert_allclose(problem.jacobian_at(0, y), derivatives, rtol=1e-11, atol=1e-12, err_msg=report)
    if not marches:
        return
    run = uh.integrate(problem, "backward-euler", step=1e-6)
    before = np.array(run.at(1e-6, side="before"))
    newton = np.linalg.solve(np.eye(3) - 1e-6 * derivatives, 1e-6 * true)
    np.testing.assert_allclose(before - y, newton, rtol=1e-4, atol=1e-14, err_msg=report)
    np.testing.assert_allclose(
        run.states[-1][1], system.jump({"y": before}).real, rtol=1e-11, atol=1e-12, err_msg=report
    )
    for name in ("w", "v"):
        value = system.meaning[name]({"y": y}).real
        np.testing.assert_allclose(run[name][0], value, rtol=1e-12, atol=1e-13, err_msg=report)
    for k in range(5):
        value = system.family({"y": y, "i": k}).real
        np.testing.assert_allclose(run[f"d[{k}]"][0], value, rtol=1e-12, atol=1e-13, err_msg=report)


@pytest.mark.parametrize("part", range(5))
@pytest.mark.long
def test_sums_never_capture_the_names_of_others(part: int) -> None:
    for seed in range(60):
        compare(1100 + 60 * part + seed, marches=seed < 6)


@pytest.mark.parametrize(
    "lines",
    [
        "u[i]' = -u[i] for i in 1..3\nx' = u - x",
        "u[i]' = -u for i in 1..3\nx' = 1",
        "u[i]' = -u[i] for i in 1..3\nv[i] = 2*u[i] for i in 1..3\nx' = v",
        "u[i]' = 1 for i in 1..3\nu' = -u\nx' = 1",
        "u[i]' = 1 for i in 1..3\nx' = sum(u for s in 1..3)",
    ],
)
def test_an_indexed_state_without_its_index_is_refused_where_it_is_said(lines: str) -> None:
    with pytest.raises(uh.HeronError, match="has an index, and is named without it") as refused:
        uh.Problem.from_text(lines, initial={"u[1]": 1, "u[2]": 1, "u[3]": 1, "x": 1}, interval=(0, 1))
    assert "line" in str(refused.value)


def test_questions_and_events_refuse_it_too() -> None:
    problem = uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial={"u": 1.0}, interval=(0, 1))
    for event in (uh.Event("u = 0.5"), uh.Event(at=0.5, then="u[1] = 2*u"), uh.Event("u[1] = 0.5", only_if="u > 0")):
        with pytest.raises(uh.HeronError, match="named without it"):
            uh.integrate(problem, events=[event])
    with pytest.raises(uh.HeronError):
        uh.integrate(problem).integral("2*u")
