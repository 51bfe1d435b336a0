"""Unhurried Heron: initial-value problems said as on paper, integrated at the speed of C, their error stated."""

from unhurried_heron.accuracy.certificate import Certificate
from unhurried_heron.accuracy.certify import certify
from unhurried_heron.accuracy.compare import compare
from unhurried_heron.accuracy.comparison import Comparison
from unhurried_heron.accuracy.convergence import Convergence, convergence
from unhurried_heron.checks.check import check
from unhurried_heron.checks.report import Finding, Report
from unhurried_heron.diagnosis.explain import Explanation, explain
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.dynamics.bifurcation import Bifurcation
from unhurried_heron.dynamics.branch import Branch, Branches
from unhurried_heron.dynamics.cycle import Cycle, cycle
from unhurried_heron.dynamics.equilibrium import Equilibria, Equilibrium
from unhurried_heron.dynamics.exponents import Exponents, exponents
from unhurried_heron.dynamics.search import equilibria, steady
from unhurried_heron.errors import (
    FormulationError,
    HeronError,
    IncompleteRunWarning,
    MethodError,
    OptionError,
    ProblemWarning,
    RunError,
)
from unhurried_heron.families.controller import Controller
from unhurried_heron.figures.accuracy_figures import draw_convergence, draw_digits, draw_drift, draw_errors
from unhurried_heron.figures.branch_figures import draw_branches
from unhurried_heron.figures.exponent_figures import draw_exponents
from unhurried_heron.figures.field import draw_field
from unhurried_heron.figures.figures import draw_difference, draw_states
from unhurried_heron.figures.phase import draw_phase
from unhurried_heron.figures.section_figures import draw_sections
from unhurried_heron.figures.stability_figures import draw_run_in_region, draw_stability
from unhurried_heron.figures.sweep_figures import draw_sweep
from unhurried_heron.figures.work_figures import draw_steps, draw_work
from unhurried_heron.files.animation import animate
from unhurried_heron.files.sound import write_sound
from unhurried_heron.files.sweep_files import read_sweep, write_sweep
from unhurried_heron.files.write import write_csv, write_summary
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.methods.additive import Additive
from unhurried_heron.methods.multistep import Multistep
from unhurried_heron.methods.partitioned import Partitioned
from unhurried_heron.methods.rosenbrock import Rosenbrock
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.methods.variable_multistep import VariableMultistep
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.ending import Ending, Tally
from unhurried_heron.run.run import Run
from unhurried_heron.stability.largest_step import largest_step
from unhurried_heron.stability.regions import Stability, stability
from unhurried_heron.stability.stability_limited_steps import StabilityLimitedSteps, stability_limited_steps
from unhurried_heron.stability.step_limit import LargestStep
from unhurried_heron.study.methods_table import methods
from unhurried_heron.study.step_table import step_table
from unhurried_heron.sweeps.draws import Draws
from unhurried_heron.sweeps.sobol_indices import SobolIndices, sobol_indices
from unhurried_heron.sweeps.sweep import Sweep, sweep
from unhurried_heron.version import VERSION

__version__ = VERSION
__all__ = [
    "Additive",
    "Bifurcation",
    "Branch",
    "Branches",
    "Budget",
    "Certificate",
    "Comparison",
    "Controller",
    "Convergence",
    "Cycle",
    "Draws",
    "Ending",
    "Equilibria",
    "Equilibrium",
    "Event",
    "Explanation",
    "Exponents",
    "Finding",
    "FormulationError",
    "HeronError",
    "IncompleteRunWarning",
    "LargestStep",
    "Measured",
    "MethodError",
    "Multistep",
    "OptionError",
    "Partitioned",
    "Problem",
    "ProblemWarning",
    "Report",
    "Rosenbrock",
    "Run",
    "RunError",
    "RungeKutta",
    "SobolIndices",
    "Stability",
    "StabilityLimitedSteps",
    "Sweep",
    "Tally",
    "VariableMultistep",
    "__version__",
    "animate",
    "certify",
    "check",
    "compare",
    "convergence",
    "cycle",
    "draw_branches",
    "draw_convergence",
    "draw_difference",
    "draw_digits",
    "draw_drift",
    "draw_errors",
    "draw_exponents",
    "draw_field",
    "draw_phase",
    "draw_run_in_region",
    "draw_sections",
    "draw_stability",
    "draw_states",
    "draw_steps",
    "draw_sweep",
    "draw_work",
    "equilibria",
    "explain",
    "exponents",
    "integrate",
    "largest_step",
    "methods",
    "read_sweep",
    "sobol_indices",
    "stability",
    "stability_limited_steps",
    "steady",
    "step_table",
    "sweep",
    "write_csv",
    "write_sound",
    "write_summary",
    "write_sweep",
]
