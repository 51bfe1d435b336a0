"""Methods made of others: one that chooses between stiff and non-stiff along the run, one that chooses its order."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar, Final, NamedTuple

from unhurried_heron.methods.coefficients import Matrix
from unhurried_heron.methods.method import Method
from unhurried_heron.methods.pickling import Kept
from unhurried_heron.methods.stability import Region

CHOOSING: Final = "chosen along the run"
SEVERAL_ORDERS: Final = "fully implicit Runge-Kutta of variable order"


class _ListedAs(Kept):
    """The facts of a method that is made of several others, taken from one of them, ``_listed``."""

    @property
    def _listed(self) -> Method:
        raise NotImplementedError

    @property
    def stages(self) -> int:
        """Number of its stages."""
        return self._listed.stages

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step of it, or in an iteration."""
        return self._listed.evaluations

    @property
    def order(self) -> int:
        """Its order."""
        return self._listed.order

    @property
    def embedded_order(self) -> int:
        """Order of its second solution."""
        return self._listed.embedded_order

    @property
    def estimate_order(self) -> int:
        """Order of its error estimate."""
        return self._listed.estimate_order

    @property
    def interpolant_order(self) -> int:
        """Order at which values between its steps converge."""
        return self._listed.interpolant_order

    @property
    def region(self) -> Region:
        """Its region of stability."""
        return self._listed.region

    @property
    def characteristic(self) -> Matrix:
        """Of the one whose region is listed."""
        return self._listed.characteristic

    @property
    def real_stability_limit(self) -> float:
        """Limit of stability on the negative real axis."""
        return self.region.real


@dataclass(frozen=True, eq=False)
class VariableOrder(_ListedAs):
    """Fully implicit methods of rising order, of which one marches at a time.

    Parameters
    ----------
    name : str
    members : tuple of RungeKutta
    source : str
    """

    name: str
    members: tuple[Method, ...]
    source: str = "given by the user"
    adaptive: ClassVar[bool] = True
    fixed_steps: ClassVar[bool] = False
    stiff: ClassVar[bool] = True
    implicit: ClassVar[bool] = True
    family: ClassVar[str] = SEVERAL_ORDERS

    @property
    def _listed(self) -> Method:
        """The one of the highest order."""
        return self.members[-1]


def _fit(methods: tuple[tuple[float, Method], ...], rtol: float) -> Method:
    """Return the last of the methods that are taken for a tolerance."""
    for largest, method in reversed(methods):
        if rtol <= largest:
            return method
    return methods[0][1]


class Decaying(NamedTuple):
    """A stabilised explicit method, and what it is taken for.

    ``most``: decays of the fastest mode; ``rtol``: the smallest tolerance; ``autonomous``: no rates that depend on
    time, which take the order from its stages where they are stiff.
    """

    method: Method
    most: float
    rtol: float
    autonomous: bool


@dataclass(frozen=True, eq=False)
class StiffnessSwitching(_ListedAs):
    """A method that changes between two others along the run.

    Parameters
    ----------
    name : str
    smooth, stiff_one : tuple of (float, Method)
        Methods by the largest tolerance they are taken for, in falling order, for intervals that are not stiff and for
        those that are.
    large : tuple of (float, Method)
        In place of the stiff ones where the linear systems are large and sparse: methods that need no complex
        factors, of which some are ten times as dear as real ones.
    decaying : tuple of Decaying
        In place of those where their modes only decay; the first that fits.
    source : str
    """

    name: str
    smooth: tuple[tuple[float, Method], ...]
    stiff_one: tuple[tuple[float, Method], ...]
    large: tuple[tuple[float, Method], ...] = ()
    decaying: tuple[Decaying, ...] = ()
    source: str = "non-stiff and stiff methods of this list"
    adaptive: ClassVar[bool] = True
    stiff: ClassVar[bool] = True
    implicit: ClassVar[bool] = True
    family: ClassVar[str] = CHOOSING

    @property
    def at_fixed_steps(self) -> Method:
        """What runs with fixed steps, where nothing is chosen: the first of the non-stiff ones."""
        return self.smooth[0][1]

    def pair(self, rtol: float) -> tuple[Method, Method]:
        """Return the non-stiff and the stiff method for a tolerance."""
        return _fit(self.smooth, rtol), _fit(self.stiff_one, rtol)

    def of_large(self, rtol: float) -> Method:
        """Return the stiff method for a tolerance and large sparse systems."""
        return _fit(self.large or self.stiff_one, rtol)

    def of_decays(self, rtol: float, decays: float, *, in_time: bool) -> Method | None:
        """Return the method for decaying modes; None where none is fit for them.

        Parameters
        ----------
        rtol : float
        decays : float
            How often the fastest mode decays.
        in_time : bool
            Whether the rates depend on time.

        Returns
        -------
        Method or None
        """
        for each in self.decaying:
            if decays <= each.most and rtol >= each.rtol and not (in_time and each.autonomous):
                return each.method
        return None

    @cached_property
    def _listed(self) -> Method:
        """The non-stiff one at the usual tolerance."""
        return self.pair(1e-7)[0]

    @property
    def region(self) -> Region:
        """Region of stability of the stiff method."""
        return self.pair(1e-7)[1].region

    @property
    def characteristic(self) -> Matrix:
        """Of the stiff method, too."""
        return self.pair(1e-7)[1].characteristic
