"""What `heron demo` shows of many runs, and of the long run."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Final

import numpy as np

from unhurried_heron.cli.arguments import save
from unhurried_heron.demo import demo_file
from unhurried_heron.problem.problem import Problem

# Draws of storm inflows; of Sobol indices some more are made from each.
_STORMS: Final = 256
# Loads of nutrient between the first cycle and the largest.
_SUPPLIES: Final = 12


def show_sweeps(out: Path) -> None:
    """Sweep the demo problems: five openings of the sluice, the food chain's seasons, storms.

    Parameters
    ----------
    out : Path
        The folder for figures.
    """
    from scipy import stats

    from unhurried_heron.figures.sweep_figures import draw_sweep
    from unhurried_heron.sweeps.draws import Draws
    from unhurried_heron.sweeps.sobol_indices import sobol_indices
    from unhurried_heron.sweeps.sweep import sweep

    pond, seasons = (Problem.from_file(demo_file(name)) for name in ("sluice-pond", "seasons"))
    openings = sweep(
        pond, {"width": [160, 320, 640, 960, 1280]}, record=400, measures=["largest(level)", "mean(spill)"]
    )
    print(openings)
    save(draw_sweep(openings, "level"), out / "sluice-pond-openings.png")
    over: dict[str, Any] = {"light": np.linspace(0.3, 1.3, 15), "warmth": np.linspace(4, 20, 15)}
    years = sweep(seasons, over, rtol=1e-6, measures="mean(algae)")
    print(f"\n{years}")
    save(draw_sweep(years), out / "seasons-map.png")
    # mean inflow, its swing, and where the water stands when the storm comes
    storms = {"base": stats.norm(90, 20), "swing": stats.uniform(20, 100), "level": stats.uniform(0.3, 0.4)}
    drawn = sweep(pond, draws=Draws(storms, _STORMS, seed=3, design="sobol"), record=200, measures="largest(level)")
    print(f"\n{drawn}")
    save(draw_sweep(drawn, "level"), out / "sluice-pond-storms.png")
    paired = sweep(pond, draws=Draws(storms, _STORMS, seed=3, design="paired"), measures="largest(level)")
    print(f"\n{sobol_indices(paired, 'largest(level)')}\n")


def show_long_run(out: Path) -> None:
    """Show where the demo problems rest, cycle and are chaotic.

    Parameters
    ----------
    out : Path
        The folder for figures.
    """
    from unhurried_heron.dynamics.cycle import Cycle, cycle
    from unhurried_heron.dynamics.exponents import exponents
    from unhurried_heron.dynamics.search import equilibria
    from unhurried_heron.figures.branch_figures import draw_branches

    chain, turbid, eddies = (Problem.from_file(demo_file(name)) for name in ("food-chain", "turbid", "eddies"))
    folds = equilibria(turbid, {"algae": (0, 20)}, over={"load": (0.5, 12)})
    print(folds)
    save(draw_branches(folds), out / "turbid-branches.png")
    box = {"nutrient": (0, 14), "algae": (0, 14), "grazer": (0, 3)}
    branches = equilibria(chain, box, over={"supply": (0.01, 14)})
    print(f"\n{branches}\n\n{cycle(chain)}")
    near: Cycle | None = None
    cycles: list[Cycle] = []
    for supply in np.linspace(6.5, 14, _SUPPLIES).tolist():
        near = cycle(chain.with_(parameters={"supply": supply}), near)
        cycles.append(near)
    save(draw_branches(branches, "algae", "grazer", cycles=cycles), out / "food-chain-branches.png")
    for count in (3, 4):
        found = exponents(eddies.with_(parameters={"eddies": count}), 2, accuracy=0.05, seconds=1.0)
        print(f"\n{count} eddies: {found}")
    print()
