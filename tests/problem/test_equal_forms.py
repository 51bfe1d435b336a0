"""One problem, written in every form there is, is one problem: equal counts and equal values by every method."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from representatives import general, marches_functions

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import all_methods, find_method
from unhurried_heron.methods.method import Method, capabilities

K, END = 1.75, 6.0
KNOWN = {"parameters": {"k": K}, "interval": (0, END)}
SECOND = {"initial": {"q": 0.5, "q'": -0.25}, **KNOWN}
FIRST = {"initial": {"q": 0.5, "v": -0.25}, **KNOWN}


def rates(t: float, q: float, v: float, k: float) -> list[float]:
    return [v, -k * np.sin(q)]


def of_array(t: float, y: np.ndarray, p: tuple[float]) -> np.ndarray:
    return np.array([y[1], -p[0] * np.sin(y[0])])


def from_a_file(folder: Path) -> uh.Problem:
    uh.Problem.from_text("q'' = -k*sin(q)", **SECOND).to_file(folder / "one.toml")
    return uh.Problem.from_file(folder / "one.toml")


# The same pendulum; each form calls the rate of q what suits it.
FORMS: dict[str, Callable[[Path], uh.Problem]] = {
    "first order": lambda _: uh.Problem.from_text("q' = v\nv' = -k*sin(q)", **FIRST),
    "second order": lambda _: uh.Problem.from_text("q'' = -k*sin(q)", **SECOND),
    "implicit in its derivatives": lambda _: uh.Problem.from_text("q' - v = 0\n2*v' + q' = v - 2*k*sin(q)", **FIRST),
    "with derived quantities": lambda _: uh.Problem.from_text("q'' = pull\npull = -k*h\nh = sin(q)", **SECOND),
    "indexed": lambda _: uh.Problem.from_text(
        "u[1]' = u[2]\nu[2]' = -k*sin(u[1])\nspan[i] = u[i] for i in 1..2",
        **{**FIRST, "initial": {"u": [0.5, -0.25]}},
    ),
    "lagrangian": lambda _: uh.Problem.from_lagrangian("kinetic = q'^2/2\npotential = -k*cos(q)", ["q"], **SECOND),
    "hamiltonian": lambda _: uh.Problem.from_hamiltonian("hamiltonian = v^2/2 - k*cos(q)", {"q": "v"}, **FIRST),
    "function of names": lambda _: uh.Problem.from_rates(rates, **FIRST),
    "function of arrays": lambda _: uh.Problem.from_rates(of_array, **FIRST),
    "with units": lambda _: uh.Problem.from_text(
        "q'' = -k*sin(q)", initial={"q": 0.5, "q'": "-900 1/h"}, parameters={"k": "1.75 1/s^2"},
        interval=(0, "0.1 min"), units={"t": "s", "q": ""},
    ),
    "a file": from_a_file,
    "a copy with changes": lambda _: uh.Problem.from_text("q' = v\nv' = -k*sin(q)", **FIRST).with_(
        parameters={"k": 9}).with_(interval=(0, 1)).with_(**KNOWN),
}  # fmt: skip
ADAPTIVE = [method for method in all_methods() if method.adaptive]
FIXED = [method for method in general() if capabilities(method).takes_fixed_steps]


def final(problem: uh.Problem, method: Method, **options: float) -> tuple[np.ndarray, tuple[int, ...]]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        run = uh.integrate(problem, method, budget={"steps": 5000}, **options)
    tally = run.tally
    return run.states[-1], (tally.accepted, tally.refused, len(run.events))


TOLERANT = {"rtol": 1e-6, "atol": 1e-9}
# the same for all forms: what the plain one comes to
PLAIN = FORMS["first order"](Path())


@cache
def plainly(name: str, **options: float) -> tuple[np.ndarray, tuple[int, ...]]:
    return final(PLAIN, find_method(name), **options)


@pytest.mark.parametrize("form", FORMS)
def test_a_form_changes_nothing(form: str, tmp_path: Path) -> None:
    other = FORMS[form](tmp_path)
    assert len(other.states) == 2
    for method in filter(marches_functions if "function" in form else None, ADAPTIVE):
        (ours, counts), (theirs, others) = plainly(method.name, **TOLERANT), final(other, method, **TOLERANT)
        # rounding of other formulas may refuse one step more in a thousand
        assert np.abs(np.subtract(counts, others)).max() <= 1 + counts[0] // 200, method.name
        assert theirs == pytest.approx(ours, rel=1e-5, abs=1e-6), method.name
    for method in filter(marches_functions if "function" in form else None, FIXED):
        (ours, counts), (theirs, others) = plainly(method.name, step=1 / 32), final(other, method, step=1 / 32)
        assert counts == others, method.name
        assert theirs == pytest.approx(ours, rel=1e-9, abs=1e-9), method.name
