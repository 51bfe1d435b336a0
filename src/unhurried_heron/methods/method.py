"""What every method says of itself, whatever its family."""

from __future__ import annotations

from typing import Protocol

from unhurried_heron.methods.rooted_trees import Scalar


class Method(Protocol):
    """A method for initial-value problems."""

    @property
    def name(self) -> str:
        """What tables call it."""

    @property
    def family(self) -> str:
        """The family it belongs to."""

    @property
    def source(self) -> str:
        """Where it comes from."""

    @property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems."""

    @property
    def adaptive(self) -> bool:
        """Whether it estimates its own error, and so can choose its steps."""

    @property
    def stages(self) -> int:
        """Number of stages of a step."""

    @property
    def order(self) -> int:
        """Order of the solution."""

    @property
    def embedded_order(self) -> int:
        """Order of the second solution that estimates the error; 0 without."""

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""

    @property
    def stability(self) -> tuple[tuple[Scalar, ...], tuple[Scalar, ...]]:
        """Numerator and denominator of the stability function R(z), lowest power first."""

    @property
    def real_stability_limit(self) -> float:
        """The largest x for which a decay is stable up to h lambda = -x; infinite where there is none."""


def estimate_order(method: Method) -> int:
    """Return the order of the error estimate: that of the less accurate of the two solutions it compares."""
    return min(method.order, method.embedded_order)
