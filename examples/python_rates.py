"""Rates as a Python function: arguments are matched by name, results by position or by name."""

import unhurried_heron as uh


def exchange(oxygen, temperature, p):
    """Oxygen of a shallow pool: reaeration towards saturation, and respiration that quickens with warmth."""
    saturation = 14.6 - 0.39 * temperature
    warmth = 1.07 ** (temperature - 20)
    return {
        "oxygen": p.reaeration * (saturation - oxygen) - p.respiration * warmth * oxygen / (1.0 + oxygen),
        "temperature": 0.2 * (p.air - temperature),
    }


pool = uh.Problem.from_rates(
    exchange,
    initial={"oxygen": 9.0, "temperature": 12.0},
    parameters={"reaeration": 0.4, "respiration": 1.1, "air": 24.0},
    interval=(0, 48),
)
cool = uh.integrate(pool)
warm = uh.integrate(pool.with_(parameters={"air": 30.0}))
print(f"oxygen after two days: {cool.final['oxygen']:.3f} with air at 24, {warm.final['oxygen']:.3f} with air at 30")
