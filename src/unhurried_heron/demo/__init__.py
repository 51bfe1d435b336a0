"""The demo problems of Mirror Fen, a made-up wetland with a field station; all numbers are invented."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

NAMES = ("sluice-pond", "food-chain", "carbonate")


def demo_file(name: str) -> Path:
    """Return the path of a packaged problem file."""
    return Path(str(files(__name__).joinpath(f"{name}.toml")))
