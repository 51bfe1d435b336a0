"""Events that act at Mirror Fen: a latch, doses, a float on its stop, a level that is slid along, and hourly rain."""

import matplotlib.pyplot as plt
import numpy as np

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

runs = {}
for name in ("siphon", "settling-basin", "float", "target-level"):
    problem = uh.Problem.from_file(demo_file(name))
    runs[name] = uh.integrate(problem, **problem.integrate_options)

siphon = runs["siphon"]
print(f"the siphon runs {100 * siphon.mean('primed'):.1f} % of the time, and starts every {siphon.period('starts')} h")
first = siphon.events["time"][0]
before, after = siphon.at(first, "primed", side="before"), siphon.at(first, "primed")
print(f"at {first:.4f} h primed goes from {before:g} to {after:g}")

basin = runs["settling-basin"]
print(basin.watched.to_string(index=False))
print(f"most silt: {basin.extremes('silt')['value'].max():.3f} mg/l")

resting = runs["float"].where("resting > 0.5")
print(f"the float rests {len(resting)} times, {resting['length'].sum():.3f} s in all")

sluice = runs["target-level"]
print(sluice.switches.head(4).to_string(index=False))
print(f"let out: {sluice.final['let_out']:.1f} m^3")

fig, axes = plt.subplots(4, 2, figsize=(12.8, 8), height_ratios=(3, 1, 3, 1), constrained_layout=True)
shown = {
    "siphon": ("level", "primed"),
    "settling-basin": ("silt", "alum"),
    "float": ("height", "resting"),
    "target-level": ("level", "inflow"),
}
for number, (name, (state, below)) in enumerate(shown.items()):
    row, column = 2 * (number // 2), number % 2
    uh.draw_states(runs[name], [state], axes=axes[row, column])
    axes[row, column].set_xlabel("")
    uh.draw_states(runs[name], [below], axes=axes[row + 1, column])
    axes[row + 1, column].set_title("", loc="left")
    axes[row + 1, column].get_legend().remove()
fig.savefig("events-that-act.png")

# ten years of hourly rain, every hour of which is landed on
hours = np.arange(10 * 8760 + 1.0)
rain = np.maximum(np.random.default_rng(30).gamma(0.05, 9.0, hours.size) - 2.0, 0.0)
pond = uh.Problem.from_text(
    "level' = (rain/1000*catchment - seep*level - spill)/area\nspill = weir*max(level - crest, 0)^1.5",
    inputs={"rain": uh.Measured(hours, rain, interpolation="previous")},
    parameters={"catchment": 30000, "seep": 6, "weir": 900, "crest": 0.8, "area": 1800},
    initial={"level": 0.4},
    interval=(0, hours[-1]),
    events=[uh.Event("level > crest", name="spills")],
)
years = uh.integrate(pond, rtol=1e-6)
print(f"{len(years.switches):,} places landed on, {years.watched['count'][0]:,} times the pond began to spill")
print(f"highest {years['level'].max():.3f} m; {years.integral('spill') / 10:,.0f} m^3 spilt a year")
