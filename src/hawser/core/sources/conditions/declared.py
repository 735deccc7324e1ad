"""The kinds of conditions that there are. A new one is a class of its own, listed here."""

from __future__ import annotations

from hawser.core.sources.conditions.base import Condition
from hawser.core.sources.conditions.breaks import Breaks
from hawser.core.sources.conditions.clock import ClockTime
from hawser.core.sources.conditions.compared import Above, Crosses
from hawser.core.sources.conditions.flips import Flips
from hawser.core.sources.conditions.rises import Rises
from hawser.core.sources.conditions.told import Always, Column, Python

AnyCondition = Above | Crosses | Rises | Breaks | Flips | ClockTime | Always | Column | Python
KINDS: dict[str, type[Condition]] = {
    str(kind.__struct_config__.tag): kind for kind in AnyCondition.__args__
}
