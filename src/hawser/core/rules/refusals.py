"""Why an entry is refused, as numbers that compiled rules answer with; in small letters they are
the reckoning's codes (section 5). Caps stand in the reckoning's order."""

from enum import IntEnum


class Refusal(IntEnum):
    NONE = 0
    INDICATOR_NOT_READY = 1
    NO_EQUITY = 2
    QTY_OFF_STEP = 3
    COSTS_EXCEED_RISK = 4
    STOP_NOT_POSITIVE = 5
    STOP_WRONG_SIDE = 6
    STOP_TOO_NEAR = 7
    TARGET_WRONG_SIDE = 8
    MAX_POSITIONS = 9
    QTY_MAX = 10
    FREE_MARGIN = 11
    MAX_NOTIONAL_PERCENT = 12
    MAX_MARGIN_PERCENT = 13
    MAX_HEAT_PERCENT = 14
    MAX_CURRENCY_HEAT_PERCENT = 15
    DAY_LOSS_ROOM = 16
    BELOW_MIN = 17
    GUARD = 18  # a guard is closed
    BASKET = 19  # the fleet's basket closes everything
    BAD_REQUEST = 20  # what is asked for cannot be: a stop by money needs a quantity that is given

    @property
    def code(self) -> str:
        return self.name.lower()
