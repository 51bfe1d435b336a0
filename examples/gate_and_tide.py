"""Switches and measured inputs: what a run lands on, what it locates, and what the ledger says of it."""

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

gate = uh.Problem.from_file(demo_file("gate"))
for switch in gate.switches:
    print(f"{switch.text:32} {switch.kind:5} {'located' if switch.times is None else switch.times}")
run = uh.integrate(gate, **gate.integrate_options)
print(run.switches.head(6).to_string(index=False))
landed = run.ledger[run.ledger["switch"] != ""]
print(f"{len(landed)} of {len(run.ledger)} attempted steps ended on a switch")

pond = uh.Problem.from_text(
    "level' = (rain - seep*level)/area",
    inputs={"rain": uh.Measured([0, 2, 5, 9, 24], [0.0, 40.0, 12.0, 0.0, 0.0], interpolation="previous")},
    parameters={"area": 1800, "seep": None},
    initial={"level": "0.5"},
    interval=(0, 24),
)
print("open:", pond.open)
for seep in (4, 8):
    wet = uh.integrate(pond, parameters={"seep": seep}, rtol=1e-9)
    print(f"seep {seep}: level {wet.final['level']:.6f} after a day, {len(wet.switches)} jumps of the rain landed on")
