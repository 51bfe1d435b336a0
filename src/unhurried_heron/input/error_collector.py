"""Gathering everything that is wrong, or stopping at the first: the same checks serve both."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from unhurried_heron.errors import FormulationError


@dataclass
class ErrorCollector:
    """What a formulation has found wrong.

    With ``gather`` false (the rule), the first mistake is raised. With it, mistakes are kept and the work goes on with
    what is left. ``assumed`` are names that a refused line would have defined, ``suspected`` those it uses: each
    mistake is told once.
    """

    gather: bool = False
    wrong: list[FormulationError] = field(default_factory=list)
    assumed: set[str] = field(default_factory=set)
    suspected: set[str] = field(default_factory=set)

    @contextmanager
    def gathering(self) -> Iterator[None]:
        """Keep a mistake made inside, if mistakes are gathered."""
        try:
            yield
        except FormulationError as error:
            if not self.gather:
                raise
            self.wrong.append(error)

    def add(self, error: FormulationError) -> None:
        """Raise or keep a mistake."""
        with self.gathering():
            raise error
