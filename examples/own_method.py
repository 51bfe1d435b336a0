"""A Runge-Kutta method of one's own: its coefficients are all that is needed."""

import unhurried_heron as uh
from unhurried_heron.testing import check_method

ralston = uh.RungeKutta(
    "ralston-2",
    a=[[], ["2/3"]],
    b=["1/4", "3/4"],
    c=[0, "2/3"],
    source="A. Ralston, Math. Comp. 16 (1962) 431-437",
)
check_method(ralston)
print(f"{ralston.name}: order {ralston.order}, R(z) = {ralston.stability[0]}")

oxygen = uh.Problem.from_text(
    "oxygen' = uptake*(saturation - oxygen)",
    parameters={"uptake": 0.4, "saturation": 9.2},
    initial={"oxygen": 3.0},
    interval=(0, 10),
    exact={"oxygen": "saturation - (saturation - 3)*exp(-uptake*t)"},
)
table = uh.compare(oxygen, [ralston, "heun-2", "classical-rk-4"], rtol=1e-6, step=[0.5, 0.25]).frame()
print(table[["method", "step", "rtol", "largest error", "rate evaluations"]].to_string())
