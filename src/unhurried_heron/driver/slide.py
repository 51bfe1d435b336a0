"""The motion along switches that a march goes over to, and the part of a run that a single march makes."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.model.model import Model
from unhurried_heron.model.sliding import Standing
from unhurried_heron.run.run import Run
from unhurried_heron.text.ending_facts import StabilityLimit


@dataclass(frozen=True)
class Slide:
    """The switches that a solution stands on and what becomes of each, and the model of the motion along some of them.

    Attributes
    ----------
    standings : tuple of Standing
    choice : tuple of int
        The side on which each is left, or `SLIDES`.
    model : Model
    """

    standings: tuple[Standing, ...]
    choice: tuple[int, ...]
    model: Model

    def __iter__(self) -> Iterator[tuple[Standing, int]]:
        return zip(self.standings, self.choice, strict=True)


class Part(NamedTuple):
    """What a single march left.

    Attributes
    ----------
    run : Run
    slide : Slide or None
        The motion along switches with which it goes on.
    stopped_by : int
        The event that stopped it.
    limit : StabilityLimit or None
        Where stability limited its steps, if it did.
    roots : dict of str to float
        As `RunRequest.roots`.
    widths : dict of str to float
        As `RunRequest.widths`.
    hands_over : bool
        Whether it ended where a stiff method is to go on.
    """

    run: Run
    slide: Slide | None
    stopped_by: int
    limit: StabilityLimit | None
    roots: dict[str, float]
    widths: dict[str, float]
    hands_over: bool


Once = Callable[[RunRequest], Part]
