"""The same runs by machine code and by interpreted kernels, and which of the kernels' lines they pass.

``python interpreted_runs.py SHARE SHARES OUT`` writes what a share of the runs comes to, by machine code;
``--interpreted`` interprets the kernels, every access within its array, and adds the lines of each kernel that were
not passed. ``python interpreted_runs.py`` does both, in two processes, and compares: it prints the lines that no run
passed, and fails where more than one run in a hundred differs, or where more than one line in twenty is not passed.
"""

import inspect
import itertools
import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import enclosed
import fenced_runs
import numpy as np

import unhurried_heron as uh
from unhurried_heron.driver import member_loops
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.members import march_members
from unhurried_heron.formulas import crossing_times, narrow_features
from unhurried_heron.methods.catalogue import CATALOGUE, all_methods
from unhurried_heron.methods.variable_multistep import VARIABLE_ADAMS
from unhurried_heron.quiet import quietly

STIFF = "x' = -50*(x - cos(t)) + where(t > 1.3, 1, 0)\ny' = x - y^3"
MARKS = [uh.Event("y = 0.3", "passes"), uh.Event(every=0.5, then="y = y/2", name="halves"), uh.Event("x < 0.1", "ends")]
# one of each kind of family, adaptive
STEPPERS = (
    "auto",
    "dormand-prince-54",
    "runge-kutta-chebyshev-2",
    "runge-kutta-chebyshev-4",
    "esdirk-43",
    "hairer-wanner-43",
    "gauss-4",
    "radau-iia-5",
    "lobatto-iiic-4",
    "adams-variable",
    "backward-differentiation-variable",
    "radau-iia-variable",
)
IMPLICIT = tuple(each.name for each in all_methods() if each.implicit and each.name != "auto")
EXPENSIVE = (
    "verner-76",
    "dormand-prince-853",
    "adams-bashforth-3",
    "adams-pece-3",
    "adams-moulton-3",
    "trapezoidal",
    "backward-differentiation-3",
    "classical-rk-4",
    "lobatto-iiic-4",
    "tr-bdf-2",
)
FULLY = ("gauss-6", "radau-iia-5", "radau-iia-9", "lobatto-iiic-6")


def text(equations: str, end: float = 2.0, **given: Any) -> uh.Problem:
    return uh.Problem.from_text(equations, **{"initial": {"x": 1.0}, "interval": (0.0, end), **given})


def called(t: float, x: float, y: float) -> list[float]:
    return [-y - x * abs(np.sin(3 * t)), x - y]


def refusing(t: float, x: float, y: float) -> list[float]:
    if t > 1:
        raise ValueError("beyond")
    return [-y, x]


def coupled(t: float, u: np.ndarray) -> np.ndarray:
    return np.convolve(u, [20, -40, 20], "same") + np.sin(t)


class Raising:
    """A function that raises when it has been called so often, trial calls among them."""

    def __init__(self, function: Any, left: int) -> None:
        self.function, self.left, self.__signature__ = function, left, inspect.signature(function)
        self.__name__ = "raising"

    def __call__(self, *arguments: Any) -> Any:
        self.left -= 1
        if self.left < 0:
            raise ValueError("enough")
        return self.function(*arguments)


def raising(part: str, left: int) -> uh.Problem:
    """Return a problem one part of which raises after some calls."""
    known = {
        "rates": lambda t, x, y: [-y - x**3, 30 * (x - y)],
        "jacobian": lambda t, x, y: [[-3 * x**2, -1], [30, -30]],
        "when": lambda t, x: x - 0.9 + 0.1 * np.sin(9 * t),
        "then": lambda x: {"x": 1.01 * x},
        "only_if": lambda t, x: x > 0.1,
        "switch": lambda t, x: x - 0.7,
    }
    known[part] = Raising(known[part], left)
    events = [uh.Event(known["when"], "one", then=known["then"], only_if=known["only_if"]), uh.Event("y = 0.3", "two")]
    given = {"jacobian": known["jacobian"]} if part == "jacobian" else {}
    return uh.Problem.from_rates(known["rates"], **TWO, events=events, switches=[known["switch"]], **given)


TWO = {"initial": {"x": 1.0, "y": 0.0}, "interval": (0.0, 2.0)}
CHAIN = text(
    "u[k]' = 40*(u[k-1] - 2*u[k] + u[k+1]) + u[k]*(1 - u[k]) for k in 2..11\nu[1]' = -u[1]\nu[12]' = u[1] - u[12]",
    initial={"u[k]": "0.1*k"},
)
CHAIN_OF_TWO = (
    "u[k]' = 90*(v[k-1] - 2*u[k] + 3*v[k+1]) + 500*v[k] for k in 2..12\nv[k]' = -300*u[k] - v[k] for k in 1..13\n"
    "u[1]' = -u[1]\nu[13]' = u[12]"
)
NESTED = {
    "equations": "x' = where(mod(t, period) < share, 1, -x) + max(min(t, opens), share) - leak*sqrt(abs(x))\n"
    "y' = ceil(abs(sin(3*t)) + floor(-2*t)) - y*exp(-((t - opens)/0.01)^2) + where(y > 0.4, share, 0)",
    "initial": {"x": "2*share", "y": 0.5},
    "parameters": {"opens": 0.7, "period": 0.3, "share": "opens/7", "leak": 0.1},
    "events": [
        uh.Event(at=[0, 0.3, 0.5, 2], name="at", then="y = y + 0.1"),
        uh.Event("x = share", then="leak = 2*leak"),
    ],
}
KNOWN, BACK = (text(**NESTED, interval=interval) for interval in ((0.0, 2.0), (2.0, 0.0)))
FULL = text("u[k]' = sum(u[j]*cos(j + k) for j in 1..9) - 9*u[k]^3 for k in 1..9", initial={"u[k]": "0.1*k"})
FUNCTIONS = uh.Problem.from_rates(
    called, **TWO, events=[uh.Event(lambda t, x: np.sin(20 * t) - x / 2, "often")], switches=[lambda t: np.sin(3 * t)]
)
LINE = uh.Problem.from_rates(
    coupled,
    initial={"u": np.linspace(0, 1, 14)},
    interval=(0, 1),
    sparsity=np.abs(np.subtract.outer(range(14), range(14))) < 2,
)
ACTS = [
    uh.Event("sin(9*t) = 0", "turns", then="k = -k", only_if="x > 0", at_most=3),
    uh.Event("x = 0.8", "stops", then="x = x + 0.3", stop_after=4),
    uh.Event(at=[0.3, 0.3000001, 1.2], then=lambda x: {"x": x / 2}, name="told"),
    uh.Event(lambda t, x: x - 0.5, "function", only_if=lambda t: t > 0.2),
    uh.Event("floor(3*t) = 2", "floors"),
    uh.Event("(t - 1)^2 = 0", "touches"),
]
FULL_MASS = np.array([[0.1, 4.0, -1.0], [3.0, 0.2, 0.5], [1.0, -1.0, 0.3]])
WITH_MASS = uh.Problem.from_rates(
    lambda t, x, y, z: FULL_MASS @ [np.sin(t) - x, x - 40 * y, y - z],
    initial={"x": 1.0, "y": 0.0, "z": 0.5},
    interval=(0, 1),
    mass=FULL_MASS,
)


def with_constraint(rates: Any, end: float, **given: Any) -> uh.Problem:
    """Return a problem whose second equation is a constraint."""
    return uh.Problem.from_rates(rates, initial={"x": 1.0, "z": 1.0}, interval=(0, end), mass=[1, 0], **given)


CONSTRAINED = with_constraint(
    lambda t, x, z: [-z * np.cos(t), 5 * (x**2 - z)],
    2.0,
    events=[uh.Event("x = 0.7", then="x = x + 0.2", at_most=1, name="dips"), uh.Event("z < 0.4", "low")],
)
TAKE_MASS = ("esdirk-43", "sdirk-43", "gauss-4", "hairer-wanner-43", *STEPPERS[-1:-4:-1])
TAKE_CONSTRAINTS = ("auto", "esdirk-43", "radau-iia-5", "backward-differentiation-variable", "radau-iia-variable")
# runs into what has no bound, where roundings decide how many steps are tried
SENSITIVE = {"in another", "stopped", "pole", "not finite", "blow-up", "growing", "growth", "tight", "huge"}
# name: problem, methods, options
CASES: dict[str, tuple[uh.Problem, tuple[Any, ...], dict[str, Any]]] = {
    "stiff": (text(STIFF, **TWO, events=MARKS), STEPPERS, {"rtol": 1e-4}),
    "long steps": (text("x' = -x^4", 400.0), IMPLICIT, {"step": 40.0}),
    "epidemic": (
        text("x' = -9*x*y\ny' = 9*x*y - y", initial={"x": 1.0, "y": 1e-4}, interval=(0, 40)),
        FULLY,
        {"step": 4.0},
    ),
    "relaxation": (
        text("x' = y\ny' = 30*(1 - x^2)*y - x", initial={"x": 2.0, "y": 0.0}, interval=(0, 60)),
        (*STEPPERS, "trapezoidal"),
        {"rtol": 1e-3},
    ),
    "relaxation, long steps": (
        text("x' = y\ny' = 30*(1 - x^2)*y - x", initial={"x": 2.0, "y": 0.0}, interval=(0, 30)),
        FULLY,
        {"step": 3.0},
    ),
    "chain": (CHAIN, STEPPERS, {"rtol": 1e-3}),
    "chain, dense": (
        CHAIN,
        ("esdirk-43", "radau-iia-5", "hairer-wanner-43", "backward-differentiation-3"),
        {"step": 0.1, "linear": "dense"},
    ),
    "full": (FULL, STEPPERS, {"rtol": 1e-3}),
    "two parts": (
        text("x' = implicit(-40*(x - y^2)) + cos(t)\ny' = x - implicit(y^3) - y*x", **TWO, events=MARKS),
        ("ark-32", "ark-54"),
        {"rtol": 1e-3},
    ),
    "two parts, long steps": (
        text("x' = implicit(-x^4) + sin(t)/50", 400.0),
        ("ark-32", "ark-43"),
        {"step": 40.0},
    ),
    "growth": (
        text("x' = 40*(x - cos(t)) - sin(t)\ny' = -200*y", 1.0, initial={"x": 1.0, "y": 1.0}),
        IMPLICIT[:12],
        {"rtol": 1e-2},
    ),
    "growing": (
        text("u[k]' = where(k > 2, 8, -90)*u[k] + u[1] for k in 1..5", 1.0, initial={"u[k]": "1e-9*k"}),
        ("radau-iia-5", "esdirk-43", "backward-differentiation-variable"),
        {"rtol": 1e-2},
    ),
    "functions": (FUNCTIONS, STEPPERS, {"rtol": 1e-3, "record": 9}),
    "functions, fixed": (FUNCTIONS, ("euler", "adams-pece-3", "adams-moulton-3", "backward-euler"), {"step": 0.125}),
    "groups": (LINE, STEPPERS[3:], {"rtol": 1e-3}),
    # rows are exchanged
    "band": (
        text(CHAIN_OF_TWO, 0.05, initial={"u": 1.0, "v": 0.0}),
        ("radau-iia-5", "esdirk-43", "backward-differentiation-3"),
        {"rtol": 1e-2, "linear": "banded"},
    ),
    "band, constraint": (
        with_constraint(lambda t, x, z: [-z * np.cos(t), 5 * (x**2 - z)], 2.0, sparsity=np.ones((2, 2))),
        ("radau-iia-5", "esdirk-43"),
        {"rtol": 1e-2, "linear": "banded"},
    ),
    "iterations": (CHAIN, ("radau-iia-5", "esdirk-43"), {"rtol": 1e-3, "linear": "krylov"}),
    "iterations, cells": (
        text(CHAIN_OF_TWO, 0.05, initial={"u": 1.0, "v": 0.0}),
        ("radau-iia-5", "backward-differentiation-variable"),
        {"rtol": 1e-2, "preconditioner": "cells"},
    ),
    "mass": (WITH_MASS, tuple(each for each in TAKE_MASS if "adams" not in each), {"rtol": 1e-3}),
    "mass, fixed": (WITH_MASS, ("adams-moulton-3", "gauss-4", "lang-verwer-32"), {"step": 0.1}),
    "constraint": (CONSTRAINED, TAKE_CONSTRAINTS, {"rtol": 1e-3}),
    "constraint in stages": (CONSTRAINED, ("dormand-prince-54", "adams-variable"), {"rtol": 1e-3, "record": 5}),
    "constraint of formulas": (
        text("x' = -z*cos(t)\nz + z^3 = 2*x", 2.0, initial={"x": 1.0}, guess={"z": 1.0}),
        ("dormand-prince-54", "adams-variable"),
        {"rtol": 1e-3},
    ),
    "constraint, long steps": (
        with_constraint(lambda t, x, z: [-z, z - x**4], 400.0),
        (*FULLY[1:], "backward-euler", "backward-differentiation-2"),
        {"step": 40.0},
    ),
    "constraint, growing": (
        with_constraint(lambda t, x, z: [z, 3 * x - z], 4.0).with_(initial={"x": 1e-9, "z": 3e-9}),
        TAKE_CONSTRAINTS,
        {"rtol": 1e-3},
    ),
    "parts": (
        text(
            "x' = 3*sin(y) + 0*t\ny' = where(t < 1, -x, -2*x)",
            **TWO,
            events=[uh.Event("x = 0.5", "half"), uh.Event(at=0.7, then="y = -y", name="turned")],
        ),
        ("symplectic-euler-1", "stormer-verlet-2", "blanes-moan-4"),
        {"step": 0.125},
    ),
    "parts, not finite": (
        text("x' = (y + 1)^3\ny' = (x + 1)^3", **TWO),
        ("stormer-verlet-2", "blanes-moan-4"),
        {"step": 0.5},
    ),
    "missed": (with_constraint(lambda t, x, z: [z, x - 2 * z], 1.0), ("radau-iia-5",), {"rtol": 1e-3}),
    "refusing": (uh.Problem.from_rates(refusing, **TWO), ("auto", "radau-iia-5", "adams-bashforth-3"), {"rtol": 1e-3}),
    "acts": (text("x' = k - x", parameters={"k": 1.0}, events=ACTS), STEPPERS, {"rtol": 1e-4}),
    "acts backwards": (
        text("x' = k - x", interval=(2, 0), parameters={"k": 1.0}, events=ACTS),
        STEPPERS[:2],
        {"rtol": 1e-4},
    ),
    "rest": (
        text("x' = -sqrt(x)\ny' = sqrt(x) - sqrt(y)", 6.0, initial={"x": 1.0, "y": 0.0}),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "pole": (text("x' = 1/(2 - x)", 3.0), STEPPERS, {"rtol": 1e-3}),
    "blow-up": (text("x' = x^2"), STEPPERS, {"rtol": 1e-3}),
    "no number": (text("x' = log(x - 2)"), STEPPERS, {"rtol": 1e-3}),
    "narrow": (
        text("x' = 100*exp(-((t - 1)/0.001)^2) - x + y\ny' = -tanh(1000*(x - 1.5))", initial={"x": 1.0, "y": 0.0}),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "nested": (
        text(
            "x' = where(x > 0.5, where(sin(7*t) > x/2, -1, -2), abs(x - 0.2) + max(t - 1, y))\n"
            "y' = min(x, y) - floor(2*t)",
            initial={"x": 1.0, "y": 0.0},
        ),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "never negative": (
        text("x' = -3*x/(x + 0.01)\ny' = -x*y", initial={"x": 1.0, "y": 1.0}, never_negative=["x", "y"]),
        STEPPERS,
        {"rtol": 1e-2},
    ),
    "manifold": (
        text(
            "x' = u\ny' = v\nu' = -pull*x\nv' = -pull*y - 1\nx^2 + y^2 = 1",
            initial={"x": 1.0, "y": 0.0, "u": 0.0, "v": 1.0},
            events=[uh.Event("y = 0.5", then="v = -v")],
        ),
        STEPPERS,
        {"rtol": 1e-3, "record": 7},
    ),
    # more formulas than a full matrix is taken for, and rates that are found by numbers
    "rope": (
        text(
            "x[0] = 0\ny[0] = sin(t)/9\n"
            "x[i]'' = pull[i]*(x[i-1] - x[i]) + pull[i+1]*(x[i+1] - x[i]) for i in 1..n-1\n"
            "y[i]'' = pull[i]*(y[i-1] - y[i]) + pull[i+1]*(y[i+1] - y[i]) - 1 for i in 1..n-1\n"
            "x[n]'' = pull[n]*(x[n-1] - x[n])\ny[n]'' = pull[n]*(y[n-1] - y[n]) - 1\n"
            "(x[i] - x[i-1])^2 + (y[i] - y[i-1])^2 = 1 for i in 1..n",
            0.2,
            parameters={"n": 13},
            initial={"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": "1/9"},
        ),
        ("dormand-prince-54", "esdirk-43"),
        {"rtol": 1e-3},
    ),
    "algebraic": (
        text(
            "x' = 1 - q\n(1 + where(t < 0.5, 1, 0))*q + q*abs(q) + w = where(t < 1, 1, 0)*x + w\nq*w + w^3 = q",
            initial={"x": 1.0},
            guess={"q": 0.4, "w": 0.5},
        ),
        tuple(name for name in STEPPERS if name in ("auto", *IMPLICIT) and name not in ("hairer-wanner-43", "gauss-4")),
        {"rtol": 1e-4},
    ),
    "strides": (
        text("x' = y\ny' = -x", **TWO),
        ("euler", "classical-rk-4", "adams-bashforth-4"),
        {"count": 2000, "record": 2},
    ),
    "tight": (text("x' = y\ny' = -x", **TWO), ("adams-variable", "backward-differentiation-variable"), {"rtol": 1e-12}),
    "rain": (
        text("x' = rain - x", inputs={"rain": uh.Measured([0, 0.5, 1, 2], [0, 3, 1, 0])}),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "not finite": (
        uh.Problem.from_rates(lambda t, x, y: [-y, x if t < 1 else np.nan], **TWO),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "not finite, fixed": (
        text("x' = sqrt(0.5 - t)"),
        ("euler", "heun-2", "adams-bashforth-2", "backward-euler", "gauss-4"),
        {"step": 0.1},
    ),
    "blow-up, fixed": (text("x' = 1000*x^2"), EXPENSIVE, {"step": 0.125}),
    "exact starts": (
        text("x' = -x", exact={"x": "exp(-t)"}),
        ("adams-bashforth-4", "backward-differentiation-3"),
        {"step": 0.1, "starter": "exact"},
    ),
    "wide": (
        text(
            "u[k]' = 30*(u[k-1] - 2*u[k] + u[k+1]) for k in 2..39\nu[1]' = -u[1]\nu[40]' = u[1] - u[40]",
            0.1,
            initial={"u[k]": "0.1*k"},
            events=[uh.Event("sum(u[k] for k in 1..40) = 50", then="u[1] = u[1] + 1", name="all")],
        ),
        ("radau-iia-5", "esdirk-43"),
        {"rtol": 1e-1, "linear": "dense"},
    ),
    "teeth": (
        text(
            "x' = cos(t)",
            8.0,
            events=[
                uh.Event("sin(9*t) > 0.9", "over"),
                uh.Event("x^2 = 0", "square"),
                uh.Event("(x - 1)*(x - 1.0005) = 0", "dip"),
                uh.Event("sin(300*t) = 0.5*x", "fast"),
            ],
        ),
        STEPPERS,
        {"rtol": 1e-2},
    ),
    "steps of a stair": (
        text(
            "x' = where(x > 0.5, floor(3*y), ceil(2*y)) - where(y > x, sqrt(abs(x - y)), 1)\ny' = sign(x - 0.4) - y",
            initial={"x": 1.0, "y": 0.5},
            events=[uh.Event("x < 0.45", then="y = y + 1", name="low")],
        ),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "tanks": (
        text(
            "x' = -sqrt(x)\ny' = sqrt(x) - 2*sqrt(y) + 0*k",
            6.0,
            initial={"x": 1.0, "y": 0.0},
            parameters={"k": 1},
            events=[uh.Event("x < 0.001", then="k = k + 1", name="empty"), uh.Event("y = 0.01", "y")],
        ),
        STEPPERS,
        {"rtol": 1e-4},
    ),
    "damped, growing": (
        text("x' = where(t < 1, -500, 20)*(x - 1) + y\ny' = -y", initial={"x": 1.0, "y": 1e-6}),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "large": (
        text(
            "u[k]' = 900*(u[k-1] - 2*u[k] + u[k+1]) for k in 2..29\nu[1]' = -u[1]\nu[30]' = u[29] - u[30]",
            1.0,
            initial={"u[k]": "sin(k)"},
        ),
        ("runge-kutta-chebyshev-2", "backward-differentiation-variable"),
        {"rtol": 1e-3},
    ),
    "below zero": (
        text("x' = -1 + 0*y\ny' = -x*y - 0.3*sqrt(max(y, 0))", initial={"x": 0.5, "y": 1.0}, never_negative=["x", "y"]),
        STEPPERS,
        {"rtol": 1e-2},
    ),
    "runs out": (
        text("x' = -3*x/(x + 1e-4)\ny' = -50*y*x", initial={"x": 1.0, "y": 1.0}, never_negative=["x", "y"]),
        STEPPERS,
        {"rtol": 1e-1, "record": 5},
    ),
    "nothing absolute": (text("x' = y\ny' = cos(t)", **TWO), STEPPERS, {"rtol": 1e-3, "atol": 0.0}),
    "all at rest": (text("x' = 0*x\ny' = 0*y", initial={"x": 0.0, "y": 0.0}), STEPPERS, {"rtol": 1e-3, "atol": 0.0}),
    "huge": (text("x' = 1e160*x^2\ny' = 1e200*y", initial={"x": 1e-3, "y": 1.0}), STEPPERS, {"rtol": 1e-3}),
    "many rows": (text("x' = cos(t)"), ("euler",), {"count": 2500, "record": "steps", "budget": {"steps": 2500}}),
    "a crowd": (
        text(
            "u[k]' = sin(k*t) for k in 1..20",
            initial={"u[k]": "0"},
            events=[
                uh.Event("sum(u[k] for k in 1..20) = 0.5", then="u[2] = u[2] - 0.01", name="sum"),
                uh.Event("u[3] = 0.1", name="third"),
            ],
        ),
        STEPPERS[1::3],
        {"rtol": 1e-2},
    ),
    "tables back": (
        text(
            "x' = rain - x",
            interval=(2, 0),
            inputs={"rain": uh.Measured([0, 0.5, 1, 2], [0, 3, 1, 0], "previous")},
            events=[
                uh.Event(at=[0.5, 1.5], then="x = x + 1", name="jump", only_if="x < 2"),
                uh.Event("x = rain", "meets"),
            ],
        ),
        STEPPERS,
        {"rtol": 1e-3, "record": [0.5, 1, 1.5]},
    ),
    "at rest": (text("x' = 0*x"), STEPPERS, {"rtol": 1e-3}),
    "an own method": (
        text(STIFF, **TWO, events=MARKS),
        (
            uh.VariableMultistep("adams-once", VARIABLE_ADAMS, 8, evaluations=1),
            uh.RungeKutta("half-explicit", a=[["1/2"], ["1/2", 0]], b=["1/2", "1/2"]),
        ),
        {"rtol": 1e-3},
    ),
    # the matrix of a step is exactly singular
    "singular": (
        text("u[k]' = 8*u[k] + u[1]*0 for k in 1..40", 1.0, initial={"u[k]": "k"}),
        ("backward-euler", "trapezoidal", "backward-differentiation-1", "verwer-2", "radau-iia-3", "gauss-4"),
        {"step": 0.125, "linear": "dense"},
    ),
    "in another": (
        text(
            "x' = floor(2*y + where(x > 0.7, 0.6, 0)) - x\ny' = where(x + floor(y) > 0.9, -1, ceil(x - step(y - 0.2)))",
            initial={"x": 1.0, "y": 0.5},
        ),
        STEPPERS,
        {"rtol": 1e-3},
    ),
    "known times": (KNOWN, STEPPERS, {"rtol": 1e-3}),
    "known times, back": (BACK, STEPPERS[:4], {"rtol": 1e-3}),
    "too many": (text("x' = floor(1e6*t) + where(t > 0.1, floor(2e6*t), 0) - x"), STEPPERS[:2], {"rtol": 1e-3}),
    "too stiff": (text("x' = -1e9*(x - cos(t))"), ("runge-kutta-chebyshev-2",), {"rtol": 1e-2}),
    "too stiff, fixed": (text("x' = -1e9*(x - cos(t))"), ("runge-kutta-chebyshev-2",), {"step": 0.125}),
    "every method": (text(STIFF, **{**TWO, "interval": (0, 0.4)}), tuple(each.name for each in all_methods()), {}),
}


def cases() -> Iterator[tuple[str, uh.Problem, str, dict[str, Any]]]:
    """Yield a name, a problem, a method, and options."""
    for name, (problem, methods, options) in CASES.items():
        for method in methods:
            adaptive = (CATALOGUE[method] if isinstance(method, str) else method).adaptive
            fixed = {"step": 0.125, **{k: v for k, v in options.items() if k != "rtol"}}
            yield (
                f"{name}, {getattr(method, 'name', method)}",
                problem,
                method,
                options if adaptive or "count" in options else fixed,
            )
    for part in ("rates", "jacobian", "when", "then", "only_if", "switch"):
        for left in (4, 6, 9, 14, 22, 35) if part in ("rates", "when") else ():
            for method in EXPENSIVE:
                yield f"{part} raise after {left}, {method}", raising(part, left), method, {"step": 0.125}
        for k, left in enumerate((5, 6, 7, 8, 9, 10, 12, 15, 20, 27, 36, 50, 80)):
            # each family meets each of them at some count
            some = STEPPERS[k % 4 :: 4] if part == "when" or left < 30 else ()
            for method in STEPPERS if part == "rates" else some:
                yield f"{part} raise after {left}, {method}", raising(part, left), method, {"rtol": 1e-2}
    for seconds in (0.03, 0.06, 0.1, 0.15, 0.2):
        # in machine code they are at their end before
        for method in STEPPERS:
            yield f"stopped, {seconds} s, {method}", FULL, method, {"rtol": 1e-5, "budget": {"seconds": seconds}}
    for seed in range(20):
        random = np.random.default_rng(seed)
        methods = [method.name for method in all_methods() if method.adaptive]
        method = methods[int(random.integers(len(methods)))]
        record = [None, 2, 50, "steps"][int(random.integers(4))]
        problem, _ = fenced_runs.problem_of(random)
        yield f"seed {seed}", problem, method, {"rtol": 1e-3} | ({} if record is None else {"record": record})


def members(method: str) -> list[Any]:
    """Return what members of a sweep come to, marched in one loop; one of them has more known times than the others."""
    with quietly():
        uh.integrate(KNOWN, method, rtol=1e-3, record=4, budget=None)
    request = next(reversed(KNOWN.model.requests.values()))
    values = np.tile([KNOWN.parameters[name] for name in KNOWN.model.parameters], (3, 1))
    values[:, KNOWN.model.parameters.index("period")] = 0.3, 0.01, 1.0
    few = replace(request, budget=Budget(steps=200))
    found = march_members(few, values, np.tile(KNOWN.start, (3, 1)), {"period", "opens"})
    return [*found.counts[:, :2].sum(axis=0).tolist(), found.reasons.tolist(), 0, *found.finals.ravel().tolist()]


SWEPT = uh.Problem.from_text(
    "x' = exp(-((t - at)/0.05)^2) + where(sin(t/wave) > 0.3, 0.2, 0) + exp(-((x - at)/0.001)^2) - 0.2*x",
    parameters={"at": 0.5, "wave": 0.2}, initial={"x": 0.3}, interval=(0, 2),
    events=[uh.Event("x = 0.6", name="passes"), uh.Event(every=0.1, name="often", then="x = 0.9*x")],
)  # fmt: skip


def members_of_their_own(method: str) -> list[Any]:
    """Return what members come to that have known times, narrow parts and many events of their own; one is left out."""
    with quietly():
        uh.integrate(SWEPT, method, rtol=1e-3, record=4)
    request = next(reversed(SWEPT.model.requests.values()))
    values = np.array([[0.5, 0.2], [0.7, 1e-9], [1.1, 0.1]])
    before, member_loops._EVENT_ROOM = member_loops._EVENT_ROOM, 8
    formulas = "x", "abs(x - 0.5)", "x^2*sin(9*t)", "1/(x - x)", "1e300*exp(x)", "0.3"
    try:
        found = march_members(request, values, np.tile(SWEPT.start, (3, 1)), {"at", "wave"}, 1, formulas)
    finally:
        member_loops._EVENT_ROOM = before
    counts = found.counts[:, :2].sum(axis=0).tolist()
    return [*counts, found.reasons.tolist(), found.events.times.size, *found.finals[::2].ravel().tolist(),
            *found.measures[::2, :3].ravel().tolist()]  # fmt: skip


def results(share: int, shares: int) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, problem, method, options in itertools.islice(cases(), share, None, shares):
        try:
            with quietly():
                run = uh.integrate(problem, method, **{"budget": {"steps": 100}, **options})
        except Exception as error:
            found[name] = [f"{type(error).__name__}: {str(error)[:60]}"]
            continue
        ends = run.at([problem.interval[0], run.ending.time])
        found[name] = [
            run.tally.accepted,
            run.tally.refused,
            run.ending.reason,
            len(run.events),
            *ends.ravel().tolist(),
        ]
    for method in STEPPERS[::4] if share == 0 else ():
        found[f"members, {method}"] = members(method)
    for method in ("auto", "dormand-prince-54") if share == 0 else ():
        found[f"members of their own, {method}"] = members_of_their_own(method)
    if share == 0:
        found["enclosures"] = enclosed.enclosures()
    # a pole, what overflows, and points where all roots are found
    points = np.array([0.0, -0.3 + 0.2j, 2.0, 1e200, 1e308])
    found["stability"] = [0, 0, "end", 0, *np.abs([uh.stability(f"adams-moulton-{k}")(points) for k in (1, 3)]).ravel()]
    return found


def measured(share: int, shares: int) -> dict[str, Any]:
    """Interpret a share of the runs; return what they come to, and of each kernel its lines and those not passed."""
    import coverage

    import unhurried_heron.kernels
    from unhurried_heron.testing.interpreted_kernels import interpret

    folder = Path(unhurried_heron.kernels.__file__).parent
    # what writes kernels as text, and constants
    beside = [f"{folder}/{name}.py" for name in ("linear_algebra/context", "enclosures/tape")]
    beside += [f"{folder}/machine_code/*", f"{folder}/memory/*", f"{folder}/*__init__.py"]
    # bundles
    beside += [f"{folder}/*_work.py", f"{folder}/fully_implicit/work.py"]
    measure = coverage.Coverage(data_file=None, source=[str(folder)], omit=beside)
    interpret()
    measure.start()
    found = {"runs": results(share, shares)}
    measure.stop()
    lines = {}
    for path in measure.get_data().measured_files():
        _, statements, _, missed, _ = measure.analysis2(path)
        lines[path.split("/kernels/")[1]] = [statements, missed]
    return {**found, "lines": lines}


def differ(one: list[Any], other: list[Any]) -> bool:
    """Whether two runs came to something else. Machine code rounds a product and a sum at once: a step more or less."""
    if one[2:4] != other[2:4] or isinstance(one[0], str):
        return one != other
    if any(abs(a - b) > 2 + 0.1 * a for a, b in zip(one[:2], other[:2], strict=True)):
        return True
    return not np.allclose(one[4:], other[4:], rtol=1e-3, atol=1e-9, equal_nan=True)


def compare(folder: Path, shares: int = 2) -> list[str]:
    """Run all in both ways, in several processes; return what is wrong."""
    files = {kind: [folder / f"{kind}{k}" for k in range(shares)] for kind in ("--compiled", "--interpreted")}
    processes = [
        subprocess.Popen([sys.executable, __file__, str(k), str(shares), str(file), kind])
        for kind, several in files.items()
        for k, file in enumerate(several)
    ]
    if any(process.wait() for process in processes):
        return ["an access outside of an array, or another exception: see above"]
    compiled, interpreted = ([json.loads(file.read_text()) for file in several] for several in files.values())
    runs = [
        {name: run for each in several for name, run in each["runs"].items()} for several in (compiled, interpreted)
    ]
    wrong = [
        f"{name}: {run} by machine code, {runs[1][name]} interpreted"
        for name, run in runs[0].items()
        if name.split(",")[0] not in SENSITIVE and differ(run, runs[1][name])
    ]
    total = missed = 0
    for name, (statements, _) in sorted(interpreted[0]["lines"].items()):
        left = set.intersection(*(set(each["lines"].get(name, (0, statements))[1]) for each in interpreted))
        total, missed = total + len(statements), missed + len(left)
        if left:
            print(f"{name}: {len(left)} of {len(statements)} lines not passed: {', '.join(map(str, sorted(left)))}")
    print(f"{len(runs[0])} runs; {1 - missed / total:.1%} of {total} lines of kernels passed")
    print("\n".join(wrong))
    # on another processor roundings decide in other runs
    several = [f"{len(wrong)} runs came to something else"] if len(wrong) > 0.01 * len(runs[0]) else []
    return several + (["less than 95 % of the lines were passed"] if missed > 0.05 * total else [])


if __name__ == "__main__":
    if len(sys.argv) > 1:
        # searches are given up after few cells of time: interpreted, each takes a thousand times as long
        crossing_times._MAX_CELLS = narrow_features._MAX_CELLS = 2000
        work = measured if "--interpreted" in sys.argv else lambda *share: {"runs": results(*share)}
        Path(sys.argv[3]).write_text(json.dumps(work(int(sys.argv[1]), int(sys.argv[2]))))
    else:
        with tempfile.TemporaryDirectory() as where:
            problems = compare(Path(where))
        print("\n".join(problems))
        sys.exit(bool(problems))
