"""Collocation methods."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, for_fixed_steps
from unhurried_heron.families.family import Demand, Family, WorkSpace
from unhurried_heron.families.linear import LINEAR_KERNELS, MOST_STUBBORN, dense_context, growth_kernel
from unhurried_heron.kernels.memory.bundles import IMPLICIT_MEMORY, NEWTON, DenseWork
from unhurried_heron.methods.catalogue import FOR_STIFF
from unhurried_heron.methods.collocation import Collocation
from unhurried_heron.run.trajectory import Array

# errors of several components and steps add up
_SHARE = 0.7
# the iteration's error goes into the solution as it is, so it gets a small share of the tolerance
_NEWTON_SHARE = 0.05
# a refusal costs a whole step, and to aim at half of what is allowed a sixth of one. The trend of the error is carried
# on from step to step (K. Gustafsson, ACM Trans. Math. Softw. 20 (1994) 496-517), where it makes the step shorter. What
# was learnt at one step says little of one six times as long: the error would change a thousandfold
_CONTROLLER = Controller(share=0.5**0.25, now=2.0, before=-1.0, steps=1.0, cautious=True, shrink=1 / 6, grow=6.0)
_ROUNDING = 8 * float(np.finfo(float).eps)


def _scale(method: Collocation, relative: Array, absolute: Array, state: Array, fixed: bool) -> ErrorScale:
    """Return the scale for the user's tolerances.

    The estimate of a collocation method goes with a lower power of the step, h^(q+1), than the error of its polynomial,
    h^(p+1), does. Where that error is ``rtol``, the estimate is of the size rtol^((q+1)/(p+1)).
    """
    if fixed:
        return for_fixed_steps(state)
    share = (method.embedded_order + 1) / (method.interpolant_order + 1)
    # pure absolute tolerances have no scale that such a power could refer to: the estimate is taken as it is
    with np.errstate(divide="ignore"):
        loosened = np.where(relative > 0, _SHARE * relative ** (share - 1.0), 1.0)
    between = float(1.0 / loosened.max())
    tightest = float((relative * loosened).min(where=relative > 0, initial=1.0))
    newton = max(_NEWTON_SHARE * between, _ROUNDING / tightest)
    return ErrorScale(relative * loosened, absolute * loosened, newton, between)


def _constants_of(method: Collocation, newton: float, between: float) -> np.ndarray:
    """Return the numbers of a method and of a run in these places, float64 (50,)."""
    gamma, alpha, beta, basis, inverse = method.spectrum
    parts = [method.nodes[:2], [gamma, alpha, beta], basis, inverse, method.interpolant, np.linalg.inv(method.a)]
    theta = np.linspace(0.0, 1.0, 1001)
    node_polynomial = np.poly(method.nodes)
    largest = np.abs(theta * np.polyval(node_polynomial, theta)).max()
    signs = node_polynomial[1:] * [-1.0, 1.0, -1.0]
    parts += [method.error_weights, signs, [largest, newton, between]]
    return np.concatenate([np.ravel(part) for part in parts])


def _lay_out(method: Collocation, demand: Demand) -> WorkSpace:
    from unhurried_heron.kernels.machine_code.prepare import load_kernels

    n, control, scales, fixed, linear = demand
    assert linear is not None, "an implicit family is given linear algebra"
    insist, m = 0, 0
    # this needs full matrices
    if fixed and linear.jacobian.ndim == 2 and n <= MOST_STUBBORN:
        (kernel,) = load_kernels("collocation.stubborn.insist")
        insist, m = kernel.address, 3 * n
    growth, looked = growth_kernel(linear, n)
    shapes: dict[str, Any] = dict.fromkeys(DenseWork._fields, n)
    shapes |= {"spare": n * n + 1 if growth else 0, "stacked": m, "direction": m}
    fields: dict[str, Any] = {name: np.zeros(shape) for name, shape in shapes.items()}
    contexts = {
        "real": linear.context(False),
        "complex": linear.context(True),
        "whole": dense_context(m, control, None, False),
    }
    fields |= {
        "memory": np.zeros(1, dtype=IMPLICIT_MEMORY),
        "controller": _CONTROLLER.record(method.embedded_order),
        "newton": np.zeros(1, dtype=NEWTON),
        "factor": linear.factor,
        "solve": linear.solve,
        "jacobian": linear.jacobian,
        "insist": insist,
        "growth": growth,
        **{name: context[0].ctypes.data for name, context in contexts.items()},
        "constants": _constants_of(method, scales.newton, scales.between),
    }
    keep = (*contexts.values(), linear, looked)
    return WorkSpace(DenseWork(**fields), np.zeros(n), method.stages + 1, keep)


COLLOCATION: Final = Family(
    "collocation",
    "collocation.step.family",
    _lay_out,
    implicit=True,
    scale=_scale,
    reference=FOR_STIFF,
    beside=LINEAR_KERNELS,
)
