"""Oxygen in a sediment column of any number of layers: one equation, emitted as one loop."""

import time

import unhurried_heron as uh

column = uh.Problem.from_text(
    """
    oxygen[i]' = diffusivity*(oxygen[i-1] - 2*oxygen[i] + oxygen[i+1])/thickness^2 - uptake[i] for i in 1..layers
    oxygen[0] = water                        # the water above
    oxygen[layers+1] = oxygen[layers]        # nothing passes the bottom
    uptake[i] = demand*oxygen[i]/(half + oxygen[i]) for i in 1..layers
    total = sum(oxygen[i]*thickness for i in 1..layers)
    """,
    parameters={
        "layers": 40,
        "depth": 30,
        "thickness": "depth/layers",
        "diffusivity": 4.2,
        "demand": 14,
        "half": 8,
        "water": 270,
    },
    initial={"oxygen[i]": "water*exp(-i*thickness/4)"},
    interval=(0, 24),
    title="Oxygen in the sediment",
)
print(column.first_order())
pattern = column.jacobian_pattern()
print(f"{pattern.shape[0]} layers, {pattern.nnz} entries of the Jacobian can be nonzero")
run = uh.integrate(column, "radau-iia-5", rtol=1e-8)
print("oxygen after a day, from the top:", run["oxygen"][-1][:5].round(2))

begun = time.perf_counter()
fine = column.with_(parameters={"layers": 100_000}, interval=(0, 1e-9))
uh.integrate(fine, rtol=1e-4, record=2)
print(f"{len(fine.states):,} layers were formulated, compiled and begun in {time.perf_counter() - begun:.2f} s")
