"""What ties a family of methods together: data, kernel, work space, tolerances, control of the step, limits.

For families of your own: `Family` says what one is, `add_family` makes it known.
"""

from unhurried_heron.families.controller import Controller
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.families.registry import add_family

__all__ = ["Controller", "Family", "SetupRequest", "WorkSpace", "add_family"]
