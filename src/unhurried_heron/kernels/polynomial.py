"""Step polynomials: every accepted step of every method is one, in the step variable theta from 0 to 1."""

from __future__ import annotations

from unhurried_heron.kernels.call import pointer_to
from unhurried_heron.kernels.compiling import entry, inner


@inner
def evaluate_step(coefficients, degree, n, theta, out):
    """Write the state at theta (pointers; Horner's rule)."""
    for k in range(n):
        value = coefficients[degree * n + k]
        for d in range(degree - 1, -1, -1):
            value = value * theta + coefficients[d * n + k]
        out[k] = value


@entry
def evaluate_at(starts, steps, coefficients, index, times, out):
    """Write the states at ``times``, each on the step that ``index`` names; out (n_times, n)."""
    degree, n = coefficients.shape[1] - 1, coefficients.shape[2]
    for i in range(times.size):
        j = index[i]
        theta = (times[i] - starts[j]) / steps[j]
        evaluate_step(pointer_to(coefficients[j]), degree, n, theta, pointer_to(out[i]))
