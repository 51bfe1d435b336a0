"""Print the least version of each dependency that pyproject.toml declares, as pip takes constraints.

Usage: python tools/minimum_versions.py > constraints.txt
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PROJECT = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text(encoding="utf-8"))["project"]


def least(requirement: str) -> str:
    """Return a requirement held to its least version."""
    name, version = re.split(">=", requirement.partition(",")[0])
    return f"{name}=={version}"


if __name__ == "__main__":
    print("\n".join(map(least, PROJECT["dependencies"])))
