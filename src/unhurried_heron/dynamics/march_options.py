"""Options of `integrate` that may be given where marches serve a study of the long run."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

from unhurried_heron.errors import OptionError, excerpt

# What such a study says itself.
_OWN: Final = ("record", "interval", "initial", "parameters", "budget", "ledger", "trace", "progress", "on_interrupt")


def march_options(options: Mapping[str, Any], location: str) -> dict[str, Any]:
    """Return the options of the marches.

    Parameters
    ----------
    options : mapping of str to object
    location : str
        The study, for messages.

    Returns
    -------
    dict of str to object

    Raises
    ------
    OptionError
        One of them is not for the caller to give.
    """
    for name in options:
        if name in _OWN:
            raise OptionError(f"{location} chooses '{name}' itself", name=name, location=location,
                              expected="tolerances, steps and a method; other values by problem.with_(…)",
                              given=excerpt(options[name]))  # fmt: skip
    return dict(options)
