"""What the user said, kept as it was said: from it a problem is made, changed and written again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from unhurried_heron.problem.event import Event
from unhurried_heron.problem.measured import Measured

Form = Literal["equations", "lagrangian", "hamiltonian", "rates"]


@dataclass(frozen=True)
class Said:
    """Every word of a problem; the attributes are the arguments of the constructors of `Problem`."""

    form: Form
    text: str = ""
    function: Callable[..., Any] | None = None
    initial: Any = None
    parameters: Any = None
    interval: Any = None
    events: tuple[Event, ...] = ()
    exact: Mapping[str, str] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)
    inputs: Mapping[str, Measured] = field(default_factory=dict)
    coordinates: tuple[str, ...] = ()
    momenta: tuple[str, ...] = ()
    forces: Mapping[str, str] = field(default_factory=dict)
    derived: Mapping[str, Any] = field(default_factory=dict)
    switches: tuple[Any, ...] = ()
    jacobian: Callable[..., Any] | None = None
    sparsity: Any = None
    title: str = ""
    integrate_options: Mapping[str, Any] = field(default_factory=dict)
