"""The name of a state: what it derives from, how many times, and which member of an indexed state it is."""

from __future__ import annotations

import functools
from typing import NamedTuple


class StateName(NamedTuple):
    """The parts of a name such as ``z''[3]``.

    Attributes
    ----------
    base : str
        What is derived, ``z``.
    primes : int
        How many times.
    inside : str
        The indices, ``3``; empty for a name without brackets.
    """

    base: str
    primes: int = 0
    inside: str = ""

    @classmethod
    @functools.lru_cache(maxsize=4096)
    def read(cls, text: str) -> StateName:
        """Take a name apart; primes may stand before or after the brackets."""
        before, _, rest = text.partition("[")
        inside, _, after = rest.partition("]")
        base = before.rstrip("'")
        return cls(base, len(before) - len(base) + after.count("'"), inside)

    @property
    def group(self) -> str:
        """The name without its indices: a state or a whole indexed state."""
        return with_primes(self.base, self.primes)

    @property
    def text(self) -> str:
        """The name as tables show it."""
        return f"{self.group}[{self.inside}]" if self.inside else self.group

    @property
    def indices(self) -> tuple[str, ...]:
        """Its indices one by one."""
        return tuple(self.inside.split(",")) if self.inside else ()

    @property
    def spoken(self) -> str:
        """The name where ``'`` cannot stand, as the argument of a function: ``z_prime``."""
        return StateName(self.base + "_prime" * self.primes, 0, self.inside).text

    @property
    def as_people_write(self) -> str:
        """The name with its primes after the indices: ``z[3]''``."""
        return (f"{self.base}[{self.inside}]" if self.inside else self.base) + "'" * self.primes


def with_primes(name: str, count: int) -> str:
    """Return the name of a derivative."""
    return name + "'" * count


def base_of(text: str) -> str:
    """Return what a state derives from."""
    return StateName.read(text).base


def group_of(text: str) -> str:
    """Return a name without its indices."""
    return StateName.read(text).group
