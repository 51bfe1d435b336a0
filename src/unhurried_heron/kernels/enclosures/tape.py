"""A formula as rows of whole numbers, operands before what is made of them: what bounds are worked out along.

A row holds the kind of its operation, the rows of up to three operands, the address of a function of one number, and
where a number of its own stands among the constants, or its column among the values.
"""

from __future__ import annotations

from typing import Final

# columns of a row
KIND, FIRST, SECOND, THIRD, FUNCTION, NUMBER = range(6)
# how many they are
ROW_SIZE: Final = 6
# Kinds of rows. Leaves: a number, a value by its column, the time, and what may be anything, or zero or one.
CONSTANT, VALUE, TIME, UNKNOWN, FLAG = range(5)
# Arithmetic, the exponent of a power being a constant.
SUM, NEGATIVE, PRODUCT, QUOTIENT, POWER = range(5, 10)
# Functions that rise or fall everywhere; that fall to a least value at zero, a constant, and rise as they fell; and
# waves between -1 and 1, highest at a constant and every 2 pi from there.
RISING, FALLING, SYMMETRIC, WAVE = range(10, 14)
# Functions of no address: the argument itself, its sign, and the step at zero.
SAME, SIGN, STEP = range(14, 17)
# The least and the largest of two; what a condition chooses; and conditions.
LEAST, LARGEST, CHOICE, LESS, NOT, BOTH = range(17, 23)
