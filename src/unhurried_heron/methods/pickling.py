"""How methods are pickled and copied."""

from __future__ import annotations

from functools import cached_property
from typing import Any


class Kept:
    """How a method is pickled and copied: one of the package's own by its name, any other by its data.

    What was computed from the data is computed again where it is needed.
    """

    def __reduce_ex__(self, protocol: Any) -> Any:
        from unhurried_heron.methods.catalogue import CATALOGUE, own_method

        if CATALOGUE.is_own(self):
            return own_method, (self.name,)  # type: ignore[attr-defined]  # every method has one
        return super().__reduce_ex__(protocol)

    def __getstate__(self) -> dict[str, Any]:
        kind = type(self)
        return {name: value for name, value in vars(self).items()
                if not isinstance(getattr(kind, name, None), cached_property)}  # fmt: skip
