"""Types of the arrays that go from room to room."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
IntArray = NDArray[np.int64]
BoolArray = NDArray[np.bool_]
ComplexArray = NDArray[np.complex128]
# rows of named fields, as control records and ledgers are
Records = NDArray[np.void]
