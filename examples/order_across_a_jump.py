"""Does a method keep its order where a bank is cut at a known time and the pond's leak grows tenfold.

Draws the error at the end against the step, with the switch crossed and without, into order-across-a-jump.png.
"""

import math
import sys
from pathlib import Path

from matplotlib.figure import Figure

import unhurried_heron as uh

pond = uh.Problem.from_text(
    """
    level' = springs - leak*level
    leak   = where(t < cut, tight, 10*tight)
    """,
    parameters={"springs": 0.2, "tight": 0.15, "cut": "5*pi/4"},
    initial={"level": 1},
    interval=(0, 10),
    title="Pond with a cut bank",
)
print(pond.switches)


def exact() -> float:
    """Level at the end, from the closed form on each side of the cut."""
    springs, tight, cut = (pond.parameters[name] for name in ("springs", "tight", "cut"))
    at_cut = springs / tight + (1 - springs / tight) * math.exp(-tight * cut)
    rest = springs / (10 * tight)
    return rest + (at_cut - rest) * math.exp(-10 * tight * (10 - cut))


steps = [0.4, 0.2, 0.1, 0.05, 0.025]
tolerances = [1e-4, 1e-6, 1e-8, 1e-10, 1e-12]
figure = Figure(figsize=(12.8, 5.4), layout="constrained")
axes = figure.subplots(1, 3, sharey=True)
colours = {"heun-2": "#009E73", "classical-rk-4": "#D55E00", "dormand-prince-54": "#0072B2", "radau-iia-5": "#CC79A7"}
for ax, crossed in zip(axes, (True, False), strict=False):
    for name, colour in colours.items():
        errors = [abs(uh.integrate(pond, name, step=h, switches=crossed).final["level"] - exact()) for h in steps]
        derivative = math.log(errors[0] / errors[3]) / math.log(steps[0] / steps[3])
        ax.loglog(steps, errors, "o-", color=colour, label=f"{name}: order {derivative:.1f}" if crossed else name)
        print(f"{name:18} {'crossed' if crossed else 'stepped over':12} observed order {derivative:.2f}")
    ax.set_title("fixed steps that land on the switch" if crossed else "the same, switches=False", loc="left")
    ax.set_xlabel("step")
    ax.set_xticks(steps, [f"{h:g}" for h in steps])
    ax.minorticks_off()
for name in ("dormand-prince-54", "radau-iia-5"):
    for crossed, line in ((True, "o-"), (False, "o--")):
        errors = [
            abs(uh.integrate(pond, name, rtol=rtol, switches=crossed).final["level"] - exact()) for rtol in tolerances
        ]
        label = name + ("" if crossed else ", switches=False")
        axes[2].loglog(tolerances, errors, line, color=colours[name], label=label)
axes[2].set_title("tolerances", loc="left")
axes[2].set_xlabel("rtol")
for ax in axes:
    ax.legend(frameon=False, loc="lower right", fontsize="small")
    ax.grid(True, color="0.9")
axes[0].set_ylabel("error at the end")
figure.suptitle("A leak that grows tenfold at a known time")
out = Path(sys.argv[1] if len(sys.argv) > 1 else ".") / "order-across-a-jump.png"
figure.savefig(out, dpi=100)
print(f"figure: {out}")
