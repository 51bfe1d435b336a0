"""What runs are asked that rooms below answer: a study makes itself known here when it is imported."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final

STUDIES: Final[dict[str, Callable[..., Any]]] = {}
