"""What a batch of steps (`codegen.batched_steps`) is given to work on, and what it says of itself."""

from __future__ import annotations

from typing import Final

# The int64 numbers and addresses that a batch of steps is given. Behind them stand the answer of the rates, 1 for
# success and 2 for a value that is not finite, and how often they were evaluated in the step that failed.
BLOCK: Final = ("n", "rates", "context", "state", "other", "stages", "past", "past_rates", "predicted", "head")
CODE: Final = len(BLOCK)
# Slot of the number of rates evaluated in the step that went wrong.
MADE: Final = CODE + 1
# How many int64 numbers a batch of steps is given and returns.
BLOCK_SIZE: Final = MADE + 1
