"""What the processes of the tests begin with: libraries, fonts, units and kernels, loaded once for all of them."""

import importlib
import io

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

for name in (
    "matplotlib.pyplot",
    "pandas",
    "pint",
    "pydantic",
    "rich.table",
    "sympy",
    "typer",
    "unhurried_heron.cli.app",
):
    importlib.import_module(name)
# what is computed of every method from its coefficients
uh.methods().to_string()
culvert = uh.Problem.from_file(demo_file("culvert"))
for method in ("auto", "radau-iia-5", "heun-2"):
    uh.draw_states(uh.integrate(culvert, method, rtol=1e-2)).savefig(io.BytesIO(), format="png")
