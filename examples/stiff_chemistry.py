"""The pond's carbonate chemistry: what an explicit method pays on a stiff problem."""

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

chemistry = uh.Problem.from_file(demo_file("carbonate")).with_(interval=(0, 1))
comparison = uh.compare(chemistry, ["dormand-prince-54", "radau-iia-5"], rtol=[1e-4, 1e-7])
print(comparison.frame()[["method", "rtol", "largest error", "accepted", "seconds", "reference"]].to_string())

run = uh.integrate(chemistry, "radau-iia-5", rtol=1e-9)
for total in ("carbon", "alkalinity"):
    drift = abs(run[total] - run[total][0]).max() / run[total][0]
    print(f"{total} drifts by {drift:.1e} of itself")
uh.draw_steps(run).savefig("steps.png")
