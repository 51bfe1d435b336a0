"""Where a family that is made of others finds its members."""

from __future__ import annotations

from typing import Final

# columns of ``links``, a row for each member of a family that is made of others
LINK_KERNEL, LINK_TABLE, LINK_DEGREE = range(3)

# and how many they are
LINK_SIZE: Final = 3
