"""What a trader plans: side, risk, stop, targets, and the rig that tends the trade. Values as
typed."""

from __future__ import annotations

from typing import Literal

import msgspec

from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE, TIMEFRAMES
from hawser.core.entry import EntryRule, HeldRule
from hawser.core.errors import BadInput
from hawser.core.levels import StopRule, TargetRule, check_shares
from hawser.core.rig import Basket, Rig, Trail

BY_HAND = "by hand"
_NO_RIG = Rig(stop=StopRule(ticks=1.0))


class FleetPlace(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The fleet that a trade belongs to, and the basket over all trades of it that are open
    together (reckoning section 13)."""

    name: str
    basket: Basket | None = None


class Plan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One planned trade. `timeframe_ns` is that of the bars whose ATR and levels it uses; no stop
    only with `invest` or a ladder, which bring their own. `rig` tends the trade beside the plan's
    own stop, targets and trail. `anchor`: where a fill differs from what was expected, stop and
    targets keep the planned levels or are laid anew from the fill. `held`: the lines are kept by
    Hawser. `source`: where the signal came from, for guards that watch some only. `fleet`: where
    the plan is one of several that share an account and a basket.
    """

    symbol: str
    side: int
    size: SizeRule
    stop: StopRule | None
    targets: tuple[TargetRule, ...] = ()
    trail: Trail | None = None
    rig: Rig | None = None
    timeframe_ns: int = 15 * MINUTE
    entry: EntryRule = EntryRule()
    anchor: Literal["planned", "fill"] = "planned"
    held: HeldRule | None = None
    source: str = BY_HAND
    fleet: FleetPlace | None = None

    @property
    def tended(self) -> Rig:
        """The rig that tends the trade: its own stop, targets and trail, all else from `rig`."""
        # sized with its own stop
        stop = self.stop or (None if self.rig and self.rig.ladder else StopRule(ticks=1.0))
        rig = self.rig or _NO_RIG
        return msgspec.structs.replace(rig, stop=stop, target=self.targets, trail=self.trail)

    def __post_init__(self) -> None:
        if self.side not in (1, -1):
            raise BadInput.at("bad_side", "side", "expected long (+1) or short (-1)")
        if self.rig is not None and self.rig.ladder is not None:
            self._check_ladder()
        else:
            check_stop_and_size(self.stop, self.size)
        check_shares(self.targets)

    def _check_ladder(self) -> None:
        if self.stop is not None or self.targets or self.trail is not None:
            raise BadInput.at(
                "bad_rig",
                "ladder",
                "it brings its stop and target; expected no other, and no trail",
            )
        if self.size.method not in ("risk_percent", "risk_money"):
            raise BadInput.at(
                "bad_rig",
                "ladder",
                f"only a risk sizes it, not {self.size.method.replace('_', ' ')}",
            )


def check_stop_and_size(stop: StopRule | None, size: SizeRule) -> None:
    """A stop by money needs a fixed quantity; only `invest` brings its own stop."""
    if stop is None and size.method != "invest":
        raise BadInput.at("bad_stop", "stop", "expected one, unless the size method is invest")
    if stop is not None and stop.money is not None and size.method != "fixed":
        raise BadInput.at("bad_stop", "stop.money", "expected with size method fixed only")


def bars_of(plan: Plan) -> tuple[int, int]:
    """The lengths of the bars that a plan is tended by, ns."""
    wide = (
        TIMEFRAMES[plan.trail.timeframe]
        if plan.trail is not None and plan.trail.timeframe
        else plan.timeframe_ns
    )
    return plan.timeframe_ns, max(wide, plan.timeframe_ns)
