"""Write the tables of the documentation that a run of the library makes.

Usage: python tools/write_tables.py [--work]; between ``<!-- table: NAME -->`` and ``<!-- end -->`` in ``docs/*.md``.
``--work`` also measures the tables of work, which takes some minutes on a quiet machine.
"""

from __future__ import annotations

import math
import re
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np

import unhurried_heron as uh
from unhurried_heron.demo import demo_file
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.methods.catalogue import DEFAULT, all_methods
from unhurried_heron.methods.method import Method
from unhurried_heron.quiet import quietly
from unhurried_heron.study.methods_table import estimate_of, facts_of

ROOT = Path(__file__).resolve().parents[1]
_YES = {True: "yes", False: "no"}


def _limit(value: float) -> str:
    return "∞" if math.isinf(value) else f"{value:.4g}"


def methods() -> str:
    """Every method: what it is, computed from its coefficients."""
    lines, family = [], ""
    for method in all_methods():
        facts = facts_of(method)
        if method.family != family:
            family = method.family
            lines += ["", f"**{family}**", ""]
            lines += ["| method | order | embedded | between | rates | error | stable | stiff | real | imaginary |"]
            lines += ["|---|---|---|---|---|---|---|---|---|---|"]
        stable = "L" if facts["L-stable"] else "A" if facts["A-stable"] else f"{facts['angle']:.4g}°"
        row = [f"`{method.name}`", method.order, method.embedded_order or "–", method.interpolant_order]
        row += [method.evaluations, estimate_of(method), "–" if stable == "0°" else stable, _YES[method.stiff]]
        row += [_limit(facts["real limit"]), _limit(facts["imaginary limit"])]
        lines.append("| " + " | ".join(map(str, row)) + " |")
    return "\n".join(lines[1:])


def names() -> str:
    """Every public name with the first sentence of its docstring."""
    lines = ["| Name | What it is |", "|---|---|"]
    for name in uh.__all__:
        if name != "__version__":
            first = (getattr(uh, name).__doc__ or "").strip().split("\n\n")[0]
            lines.append(f"| `uh.{name}` | {' '.join(first.replace('``', '`').split())} |")
    return "\n".join(lines)


def control() -> str:
    """The fields of the control record, with what its source says of each."""
    source = (ROOT / "src/unhurried_heron/kernels/memory/control.py").read_text(encoding="utf-8")
    lines = ["| Field | Type | Meaning |", "|---|---|---|"]
    for name in CONTROL.names or ():
        found = re.search(rf'\("{name}", np\.\w+\),(?:  # (.*))?', source)
        lines.append(f"| `{name}` | {CONTROL[name]} | {found[1] or '' if found else ''} |")
    return "\n".join(lines)


def side_by_side(name: str, fits: Callable[[Method], bool], rtol: float) -> str:
    """A demo problem by every adaptive method that fits, fewest evaluations first."""
    chosen = [method for method in all_methods() if method.adaptive and method.order > 1 and fits(method)]
    comparison = uh.compare(uh.Problem.from_file(demo_file(name)), chosen, rtol=rtol, budget=uh.Budget(seconds=5))
    rows = sorted(comparison.rows, key=lambda row: row["rate evaluations"] or math.inf)
    lines = [
        "| method | largest error | steps | refused | rates | Jacobians | factored |",
        "|---|---|---|---|---|---|---|",
    ]
    for row in rows:
        if row["largest error"] is None:
            lines.append(f"| `{row['method']}` | {row['ending']} | – | – | – | – | – |")
            continue
        counts = [f"{row[key]:,}" for key in ("accepted", "refused", "rate evaluations", "jacobians", "factorisations")]
        lines.append(f"| `{row['method']}` | {row['largest error']:.1e} | " + " | ".join(counts) + " |")
    return "\n".join(lines)


def order_reduction() -> str:
    """Orders observed on y' = -1e6 (y - cos t) - sin t, where a stiff component follows a moving equilibrium."""
    problem = uh.Problem.from_text(
        "y' = -1e6*(y - cos(t)) - sin(t)", initial={"y": 1}, interval=(0, 2), exact={"y": "cos(t)"}
    )
    lines = ["| method | order | observed | error at step 0.05 |", "|---|---|---|---|"]
    for method in all_methods():
        if not method.stiff or not getattr(method, "fixed_steps", True) or method.name == DEFAULT:
            continue
        errors = []
        for count in (10, 20, 40):
            with quietly():
                run = uh.integrate(problem, method, count=count)
            errors.append(float(np.abs(run["y"] - np.cos(run.times)).max()))
        # errors at rounding level have no order
        seen = [math.log2(a / b) for a, b in zip(errors, errors[1:], strict=False) if b > 1e-13]
        lines.append(f"| `{method.name}` | {method.order} | {f'{seen[-1]:.1f}' if seen else '–'} | {errors[2]:.1e} |")
    return "\n".join(lines)


CLASSICS = (
    "euler", "backward-euler", "midpoint-2", "heun-2", "trapezoidal", "implicit-midpoint", "kutta-3", "classical-rk-4",
    "three-eighths-4", "adams-bashforth-2", "adams-bashforth-4", "adams-moulton-4", "adams-pece-4",
    "backward-differentiation-2", "backward-differentiation-4", "gauss-4",
)  # fmt: skip


def classics() -> str:
    """The classics at fixed steps on one problem with a closed form: errors as the step halves, and the order seen."""
    pond = uh.Problem.from_text(
        "level' = rate*level*(1 - level/full)", parameters={"rate": 0.6, "full": 3}, initial={"level": 0.2},
        interval=(0, 8), exact={"level": "full*0.2*exp(rate*t)/(full + 0.2*(exp(rate*t) - 1))"},
    )  # fmt: skip
    lines = [
        "| method | 10 steps | 20 steps | 40 steps | 80 steps | observed | rates, 80 steps |",
        "|---|---|---|---|---|---|---|",
    ]
    for name in CLASSICS:
        errors = []
        for count in (10, 20, 40, 80):
            run = uh.integrate(pond, name, count=count)
            exact = 3 * 0.2 * np.exp(0.6 * run.times) / (3 + 0.2 * (np.exp(0.6 * run.times) - 1))
            errors.append(float(np.abs(run["level"] - exact).max()))
        report = " | ".join(f"{error:.1e}" for error in errors)
        lines.append(f"| `{name}` | {report} | {math.log2(errors[2] / errors[3]):.2f} | {run.tally.rate_evaluations} |")
    return "\n".join(lines)


def _work(which: str) -> str:
    sys.path.insert(0, str(ROOT / "benchmarks"))
    import methods as measured

    names, stiff = (measured.STIFF, True) if which == "stiff" else (measured.SMOOTH, False)
    chosen = [m for m in all_methods() if m.adaptive and (m.stiff if stiff else not m.implicit or m.name == "auto")]
    return str(measured.work_table(names, chosen))


TABLES: dict[str, Callable[[], str]] = {
    "names": names,
    "control": control,
    "methods": methods,
    "carbonate": lambda: side_by_side("carbonate", lambda method: method.stiff, 1e-6),
    "food-chain": lambda: side_by_side("food-chain", lambda method: not method.implicit or method.name == "auto", 1e-6),
    "order-reduction": order_reduction,
    "classics": classics,
}
MEASURED: dict[str, Callable[[], str]] = {"smooth-work": lambda: _work("smooth"), "stiff-work": lambda: _work("stiff")}


def draw_ranks(text: str) -> None:
    """Draw the tables of work that stand on a page: every method by its seconds, at both errors."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    titles = {"smooth-work": "Five problems that are not stiff", "stiff-work": "Five stiff problems"}
    for ax, (name, title) in zip(figure.subplots(1, 2), titles.items(), strict=True):
        table = re.search(rf"<!-- table: {name} -->(.*?)<!-- end -->", text, re.S)
        assert table, f"the page has no table {name}"
        rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in table[1].strip().splitlines()[2:]]
        # those that did not get there in two seconds are left to the table
        rows = [row for row in rows if "–" not in row]
        for index, row in enumerate(rows):
            loose, tight = (float(row[column].replace(",", "")) for column in (3, 5))
            own = row[1].strip("`") == DEFAULT
            ax.plot([loose, tight], [index, index], color="0.8", linewidth=1.0, zorder=1)
            ax.plot(loose, index, "o", color="#D55E00" if own else "#0072B2", markersize=8 if own else 6)
            ax.plot(tight, index, "s", color="#D55E00" if own else "#009E73", markersize=8 if own else 6)
        ax.plot([], [], "o", color="#0072B2", label="to reach an error of 1e-4")
        ax.plot([], [], "s", color="#009E73", label="to reach an error of 1e-8")
        ax.plot([], [], "o", color="#D55E00", label=f"{DEFAULT}, the default")
        ax.set_yticks(range(len(rows)), [row[1].strip("`") for row in rows])
        ax.invert_yaxis()
        ax.set_xscale("log")
        ax.set_xlabel("seconds over those of the best method, geometric mean")
        ax.set_title(title, loc="left")
        ax.grid(True, color="0.9", linewidth=0.8)
        ax.set_axisbelow(True)
        ax.legend(loc="upper right", framealpha=0.9)
        for side in ("top", "right"):
            ax.spines[side].set_visible(False)
    figure.savefig(ROOT / "docs" / "screenshots" / "work-on-ten-problems.png")


def main() -> None:
    """Write them."""
    tables = {**TABLES, **(MEASURED if "--work" in sys.argv else {})}
    for path in sorted((ROOT / "docs").glob("*.md")):
        text = before = path.read_text(encoding="utf-8")
        for name, make in tables.items():
            pattern = rf"(<!-- table: {name} -->\n).*?(<!-- end -->)"
            if re.search(pattern, text, re.S):
                table = make()
                text = re.sub(
                    pattern, lambda found, table=table: f"{found[1]}\n{table}\n\n{found[2]}", text, flags=re.S
                )
        if text != before:
            path.write_text(text, encoding="utf-8")
            print(f"written: {path.relative_to(ROOT)}")
        if "<!-- table: stiff-work -->" in text:
            draw_ranks(text)


if __name__ == "__main__":
    main()
