"""What there is to know of a method on a problem: stability, order, drift, certified digits, and why a run was slow."""

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

slosh = uh.Problem.from_lagrangian(
    "kinetic = length*z'^2/2\npotential = g*z^2",
    ["z"],
    parameters={"length": 38, "g": 9.81},
    initial={"z": 0.6, "z'": 0},
    interval=(0, 240),
    units={"t": "s", "z": "m"},
    title="A sloshing culvert without friction",
)
methods = ["heun-2", "classical-rk-4", "adams-bashforth-4", "radau-iia-5"]
orders = uh.convergence(slosh, methods, step=2, halvings=8)
print(*orders.orders, sep="\n")
uh.draw_convergence(orders).savefig("order.png")

kept = uh.compare(slosh, ["classical-rk-4", "implicit-midpoint", "radau-iia-5"], step=0.5)
print(kept.frame()[["method", "largest error", "drift of energy"]].to_string(index=False))
uh.draw_drift(kept).savefig("drift.png")
uh.draw_errors(kept).savefig("errors.png")

for method in ("classical-rk-4", "adams-bashforth-4"):
    column = uh.Problem.from_file(demo_file("sediment")).with_(parameters={"layers": 16})
    print(uh.largest_step(column, method))
uh.draw_stability(["euler", "heun-2", "kutta-3", "classical-rk-4", "adams-bashforth-4"]).savefig("regions.png")

chemistry = uh.Problem.from_file(demo_file("carbonate")).with_(interval=(0, 0.2))
run = uh.integrate(chemistry, "dormand-prince-54")
print(run.explain())
uh.draw_run_in_region(run).savefig("in-region.png")

print(uh.certify(uh.Problem.from_file(demo_file("sluice-pond")), digits=9))
print(uh.step_table(slosh, "heun-2", step=0.5, steps=2).to_string(index=False))
