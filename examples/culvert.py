"""The culvert three ways: as an equation of second order, by its energies, and by its Hamiltonian without friction."""

import unhurried_heron as uh

numbers = {"length": "38 m", "loss": 1.7, "g": "9.81 m/s^2"}
column = {"z": "60 cm", "z'": 0}
units = {"t": "s", "z": "m"}

written = uh.Problem.from_text(
    "length*z'' + loss/2*z'*abs(z') = -2*g*z",
    parameters=numbers,
    initial=column,
    interval=(0, "4 min"),
    units=units,
    events=[uh.Event("z = 10 cm", going="down")],
    title="Culvert",
)
print(written.first_order())
print(written.first_order().latex)
print(uh.check(written))

by_energies = uh.Problem.from_lagrangian(
    """
    kinetic   = mass*z'^2/2
    potential = density*area*g*z^2
    mass      = density*area*length
    """,
    ["z"],
    forces={"z": "-loss/2*density*area*z'*abs(z')"},
    parameters={**numbers, "density": "1000 kg/m^3", "area": "0.8 m^2"},
    initial=column,
    interval=(0, "4 min"),
    units=units,
    title="Culvert, by its energies",
)
one, other = (uh.integrate(problem, rtol=1e-10) for problem in (written, by_energies))
print(f"z after four minutes: {one.final['z']:.9f} m and {other.final['z']:.9f} m")
print(f"energy lost to friction: {1 - other['energy'][-1] / other['energy'][0]:.1%}")

free = uh.Problem.from_hamiltonian(
    "hamiltonian = p^2/(2*mass) + density*area*g*z^2\nmass = density*area*length",
    {"z": "p"},
    parameters={"length": 38, "g": 9.81, "density": 1000, "area": 0.8},
    initial={"z": 0.6, "p": 0},
    interval=(0, 240),
)
energy = uh.integrate(free, rtol=1e-10)["energy"]
print(f"without friction the energy is kept to {(energy.max() - energy.min()) / energy[0]:.1e}")
