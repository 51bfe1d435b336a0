"""What figures say, as it was read and found good, and how three of them look.

After a change that is meant, delete the section or the picture in question, run this twice and look at it.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from matplotlib.axes import Axes
from matplotlib.collections import QuadMesh
from matplotlib.figure import Figure
from PIL import Image

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

RECORDED = Path(__file__).parent / "recorded_figures.txt"
PICTURES = Path(__file__).parent / "pictures"
MANY = "\n".join(f"p{k}' = -p{k}/{k}" for k in range(1, 10)) + "\nswell' = 100*cos(t)\ntotal = p1 + p2"
CHAIN = uh.Problem.from_text(
    MANY, initial={**{f"p{k}": k for k in range(1, 10)}, "swell": 0}, interval=(0, 400), title="Nine pools",
    units={"t": "h", **dict.fromkeys(("p8", "p9", "swell"), "m")}, check_units=False,
    events=[uh.Event("swell = 1", name="one"), uh.Event("p1 = 0.5"), uh.Event("swell = 90", going="up")],
)  # fmt: skip
PLANE = "u[i,j]' = -i*u[i,j] + j for i in 1..4, j in 0..3\nw[i]' = i for i in 2..10\nv[i]' = i - v[i] for i in 1..3"
PLANE += "\nd[i] = 2*w[i] for i in 2..10"
GRID = uh.Problem.from_text(PLANE, initial={"u": 1, "w": 0, "v": 1}, interval=(0, 1), units={"t": "d", "w": "mg"},
                            check_units=False)  # fmt: skip
SWING = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 12))
STIFF = uh.Problem.from_text(
    "x' = -30*(x - cos(t))\nflow = where(t < 2, 1, -3)", initial={"x": 0}, interval=(0, 4), title="Sluice"
)
BLOW_UP = uh.Problem.from_text("x' = x^2", initial={"x": 1}, interval=(0, 2), units={"x": "m"})
SPACE = uh.Problem.from_text("v[i,j,k]' = i*j for i in 1..2, j in 1..3, k in 1..2", initial={"v": 0}, interval=(0, 1))
CHANGING = uh.Problem.from_text(
    "x' = -1e4*(x - cos(t))*exp(-(t - 9)^2) - x", initial={"x": 1}, interval=(0, 30), title="Stiff for a while"
)
KNOWN = uh.Problem.from_text(
    "x' = -k*x", initial={"x": "1 m"}, parameters={"k": "0.5 1/h"}, interval=(0, "4 h"), exact={"x": "x_0*exp(-k*t)"},
    units={"t": "h", "x": "m"}, title="Draining",
)  # fmt: skip
STILL = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 4))
GATE = uh.Problem.from_file(demo_file("gate"))


def on_axes_of_the_caller() -> Figure:
    figure = Figure(figsize=(8, 5))
    axes = figure.subplots()
    for method in ("heun-2", "radau-iia-5", "heun-2"):
        uh.draw_states(uh.integrate(SWING, method, rtol=1e-3), axes=axes)
    return figure


def in_space_of_the_caller() -> Figure:
    axes = Figure(figsize=(8, 5)).add_subplot(projection="3d")
    runs = [uh.integrate(CHAIN, rtol=rtol) for rtol in (1e-3, 1e-6)]
    return uh.draw_phase(runs, "p1", "p2", "p8", labels=["loose", "tight"], equal=True, axes=axes)


def cut_short() -> Figure:
    with pytest.warns(uh.IncompleteRunWarning):
        return uh.draw_states(uh.integrate(BLOW_UP, rtol=1e-3))


def at_the_start() -> Figure:
    with pytest.warns(uh.IncompleteRunWarning):
        return uh.draw_states(uh.integrate(BLOW_UP.with_(initial={"x": 1e300})))


def compared() -> uh.Comparison:
    return uh.compare(BLOW_UP.with_(interval=(0, 0.9)), ["euler", "heun-2", "radau-iia-5"], rtol=[1e-3, 1e-5], step=0.3)


FIGURES = {
    "sizes": lambda: uh.draw_states(uh.integrate(CHAIN, rtol=1e-6), [*CHAIN.states, "total"]),
    "plain": lambda: uh.draw_states(uh.integrate(CHAIN, record=5), "p9"),
    "plane": lambda: uh.draw_states(uh.integrate(GRID), ["u", "w", "v", "d", "v[2]"]),
    "space": lambda: uh.draw_states(uh.integrate(SPACE, record=3)),
    "line-recorded": lambda: uh.draw_states(uh.integrate(GRID, record=7), ["w"]),
    "callers": on_axes_of_the_caller,
    "coarse": lambda: uh.draw_states(uh.integrate(SWING.with_(initial={"x": 1e-3}), "heun-2", step=1.2)),
    "one-step": lambda: uh.draw_states(uh.integrate(SWING, "dormand-prince-54", rtol=0.1, atol=9)),
    "five-points": lambda: uh.draw_states(uh.integrate(STILL, "classical-rk-4", step=1)),
    "few": lambda: uh.draw_states(uh.integrate(SWING, "classical-rk-4", step=4)),
    "fine": lambda: uh.draw_states(uh.integrate(SWING, "classical-rk-4", step=0.01)),
    "swings-dense": lambda: uh.draw_states(uh.integrate(STIFF.with_(interval=(0, 2)), "heun-2", step=0.0067)),
    "cut-short": cut_short,
    "start-only": at_the_start,
    "backward": lambda: uh.draw_states(uh.integrate(SWING.with_(interval=(3, 0)), record=[2, 1, 0])),
    "gate": lambda: uh.draw_states(uh.integrate(GATE, rtol=1e-5)),
    "jump": lambda: uh.draw_states(uh.integrate(STIFF, "radau-iia-5", rtol=1e-4), ["x", "flow"]),
    "overlay": lambda: uh.draw_states([uh.integrate(SWING, m, step=0.5) for m in ("euler", "heun-2")], points=True),
    "overlay-starts": lambda: uh.draw_states(
        [uh.integrate(KNOWN, rtol=1e-5, initial={"x": start}) for start in (1, 2)],
        ["x"],
        exact=True,
        levels={"brim": "150 cm"},
    ),
    "overlay-one": lambda: uh.draw_states(uh.integrate(KNOWN, rtol=1e-5), exact=True, levels={"low": 0.25}),
    "overlay-units": lambda: uh.draw_states(
        [uh.integrate(CHAIN, rtol=rtol) for rtol in (1e-4, 1e-6)], ["p1", "p8", "p9"], labels=["loose", "tight"]
    ),
    "difference": lambda: uh.draw_difference(uh.integrate(SWING, "heun-2", step=0.1), uh.integrate(SWING, rtol=1e-9)),
    "difference-recorded": lambda: uh.draw_difference(
        uh.integrate(SWING, "heun-2", step=0.1, record=13), uh.integrate(SWING, rtol=1e-9, record=[1, 2.5, 4])
    ),
    "phase": lambda: uh.draw_phase(
        [uh.integrate(SWING, initial={"x": x}, rtol=1e-6) for x in (1, 2)], "x", "v", equal=True
    ),
    "phase-backward": lambda: uh.draw_phase(uh.integrate(SWING.with_(interval=(3, 0)), "heun-2", step=1), "x", "v"),
    "phase-still": lambda: uh.draw_phase(uh.integrate(SWING.with_(initial={"x": 0}), rtol=1e-3), "x", "v"),
    "phase-space": lambda: uh.draw_phase(uh.integrate(CHAIN, rtol=1e-5), "p1", "swell", "total", projections=True),
    "phase-callers": in_space_of_the_caller,
    "steps": lambda: uh.draw_steps(uh.integrate(CHAIN.with_(interval=(0, 3)), rtol=1e-6, starting_step=3)),
    "steps-many": lambda: uh.draw_steps(uh.integrate(SWING.with_(interval=(0, 1500)), "dormand-prince-54", rtol=1e-6)),
    "steps-orders": lambda: uh.draw_steps(uh.integrate(CHAIN.with_(interval=(0, 3)), "adams-variable", rtol=1e-5)),
    "steps-chosen": lambda: uh.draw_steps(uh.integrate(CHANGING, rtol=1e-4)),
    "work": lambda: uh.draw_work(compared()),
    "factored": lambda: uh.draw_work(compared(), work="factorisations", axes=Figure().subplots()),
}


def report(values: object) -> str:
    """Numbers to two digits, which rounding elsewhere does not change, and nothing beside the largest."""
    numbers = np.ravel(values)
    numbers[np.abs(numbers) < 1e-7 * np.abs(numbers).max()] = 0.0
    return " ".join("tiny" if 0 < abs(number) < 1e-9 else f"{number:.2g}" for number in numbers)


def size(count: int) -> str:
    """How many points, where steps do not matter by one."""
    return str(count) if count < 60 else f"about {2 ** round(np.log2(count))}"


def lines(axes: Axes) -> Iterator[str]:
    """What there is to read in axes: texts and numbers; how it looks is held by the pictures."""
    yield f"axes '{axes.get_title(loc='left')}' {axes.get_xlabel()} | {axes.get_ylabel()} | {axes.get_yscale()}"
    yield f"  further marks {sum(str(line.get_label()) == '_nolegend_' for line in axes.lines)}"
    if hasattr(axes, "get_zlabel"):
        yield f"  in space, {axes.get_zlabel()}"
    for line in axes.lines:
        x, y, *_ = (np.asarray(data, float) for data in getattr(line, "get_data_3d", line.get_data)())
        if str(line.get_label()) != "_nolegend_":
            ends = f"{report(x[[0, -1]])} {report([y[0], y[-1], y.min(), y.max()])}" if len(x) else ""
            yield f"  {line.get_label()!r} {size(len(x))}: {ends}"
    for mesh in (each for each in axes.collections if isinstance(each, QuadMesh)):
        values = np.ravel(mesh.get_array())
        yield f"  map {size(values.size)}: {report([values[0], values[-1], values.min(), values.max()])}"
        yield f"    {report(mesh.get_datalim(axes.transData).get_points())} upside down {axes.yaxis_inverted()}"
    if axes.get_legend():
        yield f"  legend {[text.get_text() for text in axes.get_legend().get_texts()]}"
    yield from (f"  note {note.get_text()!r}" for note in axes.texts)
    yield from (f"  arrow {report([*note.xyann, *note.xy])}" for note in axes.texts if note.arrow_patch)


def kept() -> dict[str, str]:
    """What was kept of each figure."""
    parts = RECORDED.read_text(encoding="utf-8").split("== ") if RECORDED.exists() else []
    return {name: held for name, _, held in (part.partition("\n") for part in parts if part)}


@pytest.mark.parametrize("name", FIGURES)
def test_what_a_figure_holds(name: str) -> None:
    figure = FIGURES[name]()
    held = "\n".join(
        [f"figure {report(figure.get_size_inches())}", *(line for axes in figure.axes for line in lines(axes))]
    )
    held = re.sub(r"'[\d,]+ (accepted|refused)", r"'# \1", held) + "\n"
    if name not in kept():
        with RECORDED.open("a", encoding="utf-8") as file:
            file.write(f"== {name}\n{held}")
        pytest.fail(f"nothing was kept for '{name}': now it is")
    assert held == kept()[name]


@pytest.mark.parametrize("name", ["overlay-starts", "phase-space", "plane"])
def test_how_figures_look(name: str, tmp_path: Path) -> None:
    FIGURES[name]().savefig(tmp_path / "now.png", dpi=25)
    picture = PICTURES / f"{name}.png"
    if not picture.exists():
        shutil.copy(tmp_path / "now.png", picture)
        pytest.fail(f"no picture was kept of '{name}': now it is; look at it")
    now, before = (Image.open(path).convert("RGB") for path in (tmp_path / "now.png", picture))
    assert now.size == before.size
    # edges of letters and lines differ a little from machine to machine
    small = (np.asarray(each.resize((64, 40)), float) for each in (now, before))
    difference = np.abs(np.subtract(*small))
    assert difference.mean() < 1.0
    assert difference.max() < 40.0
