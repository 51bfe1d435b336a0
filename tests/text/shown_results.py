"""Results of every kind, and their documents."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np
from scipy import stats

import unhurried_heron as uh
from unhurried_heron.demo import NAMES, demo_file
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.study.methods_table import PURPOSES, document_of
from unhurried_heron.text.answers import answers_document, step_table_document
from unhurried_heron.text.comparison_document import ranking_document
from unhurried_heron.text.document import Document, Statement

QUICK = ["dormand-prince-54", "radau-iia-5"]
REGIONS = ["heun-2", "classical-rk-4", "trapezoidal", "radau-iia-5", "backward-differentiation-4", "adams-bashforth-3"]


@cache
def demo(name: str) -> uh.Problem:
    return uh.Problem.from_file(demo_file(name))


def pond() -> uh.Problem:
    return demo("sluice-pond")


def cubic() -> uh.Problem:
    return uh.Problem.from_text("x' = load + x - x^3/3", initial={"x": 0.5}, parameters={"load": 0.1}, interval=(0, 9))


def quiet(problem: uh.Problem, *arguments: Any, **options: Any) -> uh.Run:
    """Return a run that may end early."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        return uh.integrate(problem, *arguments, **options)


def written(text: str, end: float, *, events: tuple[uh.Event, ...] = (), **initial: float) -> uh.Problem:
    return uh.Problem.from_text(text, initial=initial, interval=(0, end), events=events)


def swing(end: float = 60.0) -> uh.Problem:
    return written("x' = v\nv' = -x", end, x=1, v=0)


def fast() -> uh.Problem:
    return written("x' = -2000*(x - cos(t)) - sin(t)", 20, x=1)


def made_up(verdict: str) -> uh.Exponents:
    """Return exponents that differ on no machine."""
    values, widths = np.array([0.01301, 2.25e-05, -0.5]), np.array([0.0008, 4e-06, 0.01])
    return uh.Exponents(demo("eddies"), values, widths, 8765.4, verdict, 2.02605, np.empty((0, 3)), np.empty(0))


def sentences(*results: object) -> Document:
    return Document("", tuple(Statement("said", line) for each in results for line in str(each).splitlines()))


ENDINGS: dict[str, Callable[[], uh.Run]] = {
    "blow-up": lambda: quiet(written("x' = 1 + x^2", 9, x=0)),
    "blow-up backwards": lambda: quiet(written("x' = x^2", -2, x=-1), "radau-iia-5"),
    "rate without bound": lambda: quiet(written("x' = -1/(2*x)", 2, x=1), "dormand-prince-54"),
    "zero at the start": lambda: quiet(written("x' = 1 + sin(x)/x", 2, x=0)),
    "event": lambda: uh.integrate(written("x' = -x", 9, x=1, events=(uh.Event("x = 0.5", stop=True, name="half"),))),
    "accumulation": lambda: quiet(written("h' = v\nv' = -9.81", 9, h=1, v=0, events=(
        uh.Event("h = 0", going="down", then="v = -0.5*v", name="floor"),))),
    "action": lambda: quiet(written("x' = 1", 9, x=-1, events=(uh.Event("x = 0", then="x = log(x - 1)"),))),
    "to and fro": lambda: quiet(written("x' = -sign(x - 0.5)", 9, x=0), switches=False, budget={"steps": 2000}),
    "long step": lambda: quiet(written("x' = -500*x", 100, x=1), "heun-2", step=0.1),
    "quiet state": lambda: quiet(written("x' = -x\ny' = 1e-14*x - y", 9, x=1, y=0), "dormand-prince-54", atol=1e-9),
    "stiff": lambda: quiet(fast(), "dormand-prince-54", rtol=1e-5),
    "stiff for a while": lambda: uh.integrate(
        written("x' = -1e4*(x - cos(t))*exp(-(t - 9)^2) - x", 30, x=1), rtol=1e-5),
    "singular Jacobian": lambda: quiet(written("x' = 1/(1 - t)^2", 3, x=0), "radau-iia-5"),
}  # fmt: skip
EXPLAINED: dict[str, Callable[[], uh.Run]] = {
    "an explicit run": lambda: uh.integrate(pond(), "dormand-prince-54"),
    "a stiff run": ENDINGS["stiff"],
    "a stiff implicit run": lambda: uh.integrate(fast(), "radau-iia-5", rtol=1e-5),
    "a tight run": lambda: uh.integrate(swing(), "bogacki-shampine-32", rtol=1e-8),
    "fixed steps": lambda: quiet(written("x' = -30*x + sin(t)", 3, x=1), "heun-2", step=0.07),
    "short fixed steps": lambda: uh.integrate(swing(9), "classical-rk-4", step=0.01),
    "a budget": lambda: quiet(swing(600), "verner-76", rtol=1e-9, budget={"steps": 300}),
    "a blow-up": ENDINGS["blow-up"],
    "the largest step": lambda: uh.integrate(swing(), "verner-76", rtol=1e-4, largest_step=0.05),
    "landings": lambda: uh.integrate(written("x' = step(sin(3*t)) - 0.4*x", 30, x=0), "dormand-prince-54", rtol=1e-4),
    "Newton's iteration": lambda: uh.integrate(
        written("x' = 300*(1 - x^2)*y - x + sin(20*t)\ny' = x - y", 20, x=2, y=0), "trapezoidal", rtol=1e-3),
    "a coarse tolerance": lambda: uh.integrate(written("x' = -x\ny' = -y", 2, x=1, y=1e-9), atol=1e-9),
}  # fmt: skip


def failing() -> uh.Comparison:
    return uh.compare(written("x' = -500*x", 100, x=1), ["adams-bashforth-1", "radau-iia-5"], rtol=1e-5, step=0.1)


def ranked() -> Document:
    return ranking_document(uh.compare(pond(), QUICK, rtol=[1e-4, 1e-6, 1e-8]).best(1e-5), 1e-5)


RESULTS: dict[str, Callable[[], object]] = {
    **{f"run of {name}": (lambda name=name: uh.integrate(demo(name))) for name in NAMES},
    "run cut short": lambda: quiet(pond(), budget={"steps": 3}),
    **{f"run that ends by {name}": each for name, each in ENDINGS.items()},
    **{f"explanation of {name}": (lambda each=each: uh.explain(each())) for name, each in EXPLAINED.items()},
    "run with fixed steps": lambda: uh.integrate(pond(), "heun-2", count=200),
    "run with few values": lambda: uh.integrate(pond(), "radau-iia-5", record=3),
    "comparison": lambda: uh.compare(pond(), QUICK, rtol=[1e-3, 1e-6]),
    "comparison with failures": failing,
    "orders": lambda: uh.convergence(pond(), ["heun-2", "classical-rk-4"], halvings=4),
    "certificate": lambda: uh.certify(pond(), 4),
    "check": lambda: uh.check(pond()),
    "ranking": ranked,
    "equilibria": lambda: uh.equilibria(cubic(), {"x": (-3, 3)}),
    "branches": lambda: uh.equilibria(cubic(), {"x": (-3, 3)}, over={"load": (-2, 2)}),
    "cycle": lambda: uh.cycle(written("x' = y\ny' = (1 - x^2)*y - x", 30, x=2, y=0)),
    "no equilibria": lambda: uh.equilibria(written("x' = 1 + x^2", 1, x=0), {"x": (-3, 3)}),
    "equilibria in a plane": lambda: uh.equilibria(
        written("x' = y\ny' = x - x^3 - y/4", 1, x=1, y=0), {"x": (-2, 2), "y": (-2, 2)}
    ),
    "branches that turn and cycle": lambda: uh.equilibria(
        demo("food-chain"), {"nutrient": (0, 14), "algae": (0, 14), "grazer": (0, 3)}, over={"supply": (0.5, 14)}
    ),
    "cycle with units": lambda: uh.cycle(demo("food-chain")),
    "exponents": lambda: uh.exponents(cubic(), accuracy=0.5, seconds=60.0),
    **{
        f"exponents of what is {verdict}": (lambda verdict=verdict: made_up(verdict))
        for verdict in ("chaotic", "not certain")
    },
    "sweep": lambda: uh.sweep(cubic(), {"load": [0, 1, 2]}, measures="largest(x)"),
    "sweep of a plane": lambda: uh.sweep(
        pond(),
        {"crest": ["60 cm", "1 m"], "base": [60, 90, 120]},
        rtol=1e-4,
        measures=["largest(level)", "mean(spill)"],
    ),
    "sweep with failures": lambda: uh.sweep(cubic(), {"load": [0, 1, 1e9]}, "heun-2", step=0.1),
    "Sobol's indices": lambda: uh.sobol_indices(
        uh.sweep(
            pond(),
            draws=uh.Draws({"base": stats.norm(90, 20), "swing": stats.uniform(20, 100)}, 32, seed=3, design="paired"),
            rtol=1e-4,
            measures="largest(level)",
        ),
        "largest(level)",
    ),
    "comparison by energies": lambda: uh.compare(
        demo("culvert-energies"), ["heun-2", "stormer-verlet-2"], count=[400, 800]
    ),
    "comparison at fixed steps": lambda: uh.compare(pond(), ["heun-2", "classical-rk-4"], count=[100, 200]),
    "orders that cannot be told": lambda: uh.convergence(fast(), ["heun-2", "radau-iia-5"], step=0.1, halvings=2),
    "certificate of two times": lambda: uh.certify(pond(), 9, at=[6, 24]),
    "certificate that is refused": lambda: uh.certify(demo("eddies").with_(interval=(0, 200)), 12),
    "stability": lambda: sentences(*map(uh.stability, REGIONS)),
    "largest steps": lambda: sentences(
        uh.largest_step(written("x' = -30*x", 2, x=1), "heun-2"),
        uh.largest_step(written("x' = -30*x", 2, x=1), "radau-iia-5"),
        uh.largest_step(written("x' = v\nv' = -9*x - v/2", 40, x=1, v=0), "classical-rk-4"),
        uh.largest_step(written("x' = 1", 2, x=1), "heun-2"),
    ),
    "steps that stability limits": lambda: sentences(
        *(uh.stability_limited_steps(EXPLAINED[name]()) for name in ("a stiff run", "an explicit run"))
    ),
    "answers": lambda: answers_document(
        uh.integrate(pond()),
        [
            ("crossings", "level = 1"),
            ("extremes", "level"),
            ("extremes", "2*level"),
            ("where", "level > 1"),
            ("integral", "spill"),
            ("mean", "level"),
            ("period", "level"),
            ("crossings", "level = 7"),
            ("mean", "lvl"),
        ],
    ),
    "steps by hand": lambda: step_table_document(pond(), uh.step_table(pond(), "heun-2", step=0.5, steps=2)),
    "methods": lambda: document_of(all_methods()),
    "methods by purpose": lambda: sentences(*(f"{each}: {', '.join(uh.methods(each).index)}" for each in PURPOSES)),
}


@cache
def result(name: str) -> object:
    return RESULTS[name]()


def document(name: str) -> Document:
    found = result(name)
    return found if isinstance(found, Document) else found.document()
