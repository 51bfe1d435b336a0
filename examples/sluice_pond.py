"""A pond with a tide-driven inflow and a sluice: say it, run it, keep the table."""

import unhurried_heron as uh

pond = uh.Problem.from_text(
    """
    level'   = (inflow - spill) / area
    inflow   = base + swing * sin(2*pi*t/12.4)
    spill    = width * max(level - crest, 0)^1.5
    """,
    parameters={"area": 1800, "base": 90, "swing": 70, "width": 640, "crest": 0.8},
    initial={"level": 0.4},
    interval=(0, 72),
    events=[uh.Event("level = crest", name="overtops", going="up")],
)
run = uh.integrate(pond, method="dormand-prince-54", rtol=1e-8)
run.frame().to_csv("pond.csv")
print(run)
print(run.events)
