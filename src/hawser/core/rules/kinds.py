"""What a distance or a level is given in: one table for stops, targets, steps, rungs and trails.

Compiled code compares with these and is handed whole numbers (`int(Kind.ATR)`): a member as an
argument would be another type, and have every rule compiled once more.
"""

from enum import IntEnum


class Kind(IntEnum):
    """`COLUMN`: taken from completed bars, as an extreme or an indicator's line; `MONEY`: the
    farthest whose whole risk is within a sum; `LADDER`: the stop that a ladder brings."""

    NONE = -1
    R = 0
    TICKS = 1
    PERCENT = 2
    ATR = 3
    PRICE = 4
    COLUMN = 5
    MONEY = 6
    LADDER = 7
