"""The plan being made, without Qt: what stands in its fields, what is wrong with them, and its size
right now."""

from __future__ import annotations

import math
from collections.abc import Callable
from decimal import Decimal
from functools import partial
from typing import Literal, TypeVar

import msgspec

from hawser.core import field_parser as fp
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule
from hawser.core.errors import BadInput, Refused
from hawser.core.guards.context import Closed
from hawser.core.indicator_values import basis, own_atr, plan_atr
from hawser.core.levels import MAX_TARGETS
from hawser.core.plan import Plan
from hawser.core.rig import Ladder, Rig, read_trail, trail_text
from hawser.core.size_terms import SizeRequest, Sizing
from hawser.core.sizing import sized
from hawser.desk.models import figures as fg
from hawser.desk.models.focus import waits_text
from hawser.formats.declared import as_read
from hawser.service.views.snapshot import Snapshot, plan_request

TARGETS = MAX_TARGETS
Found = TypeVar("Found")
ANCHORS: dict[str, Literal["planned", "fill"]] = {"planned": "planned", "fill": "fill"}


class Draft(msgspec.Struct, frozen=True):
    """The plan as typed. Everything a person entered stays as it was entered."""

    side: int = 1
    risk: str = "0.6 %"
    stop: str = "2.5 atr"
    targets: tuple[tuple[str, str], ...] = (("1.0 R", "40 %"), ("2.5 R", "30 %"), ("", ""))
    trail: str = "3.0 atr"
    entry: str = "market"
    good: str = "cancelled"
    held: str = ""
    anchor: str = "planned"
    rig: str = ""  # by name

    def rows(self) -> list[tuple[str, str]]:
        """All targets that can be typed, those not typed yet empty."""
        return [*self.targets, *[("", "")] * TARGETS][:TARGETS]


class Planning(msgspec.Struct):
    """One instrument's draft and what follows from it. `errors` by field name: rig, entry, good,
    risk, stop, target1.., trail, held. `straddle`: the distance in ATR where both sides are to
    wait; the plan is then one side of it."""

    symbol: str = ""
    span: int = 15 * MINUTE
    draft: Draft = Draft()
    errors: dict[str, str] = msgspec.field(default_factory=dict)
    plan: Plan | None = None
    straddle: float | None = None
    request: SizeRequest | None = None
    sizing: Sizing | None = None
    refusal: str = ""
    closed: tuple[Closed, ...] = ()  # why entries do not pass now
    unseen: str = ""  # why nobody can have meant this plan yet
    currency: str = "CHF"
    rigs: dict[str, Rig] = msgspec.field(default_factory=dict)
    # completed bars of this instrument and timeframe, for stops taken from them
    bars: Bars | None = None
    _basis: tuple[object, float] = (None, math.nan)
    _atr: tuple[object, float] = (None, math.nan)

    def change(self, draft: Draft) -> None:
        """Take what is typed; a field that is wrong is explained and nothing else is touched."""
        self.draft, self.errors, self.plan = draft, {}, None
        size = self._field("risk", lambda text: fp.read_size(text, self.currency), draft.risk)
        brought = self.ladder is not None or (size is not None and size.method == "invest")
        stop = None
        if not brought or draft.stop.strip():  # an investment, or a ladder, brings its own stop
            stop = self._field("stop", lambda text: fp.read_stop(text, self.currency), draft.stop)
        trail = self._field("trail", read_trail, draft.trail)
        held = self._field("held", fp.read_held, draft.held)
        entry, rig = self._entry(draft), self._rig(draft.rig)
        if (
            rig is not None
            and rig.trail is not None
            and trail is not None
            and trail.kind == rig.trail.kind
        ):
            keep = rig.trail  # what is typed is its distance; when and how it follows is the rig's
            trail = msgspec.structs.replace(
                trail,
                anchor=keep.anchor,
                after=keep.after,
                step_ticks=keep.step_ticks,
                timeframe=keep.timeframe,
            )
        targets, left = [], 1.0
        for number, (level, share) in enumerate(draft.targets, start=1):
            if not level.strip() and not share.strip():
                continue
            part = self._field(f"share{number}", partial(fp.read_share, left=left), share or "rest")
            rule = self._field(f"target{number}", partial(fp.read_target, share=part or 0.0), level)
            if rule is not None:
                targets.append(rule)
                left -= rule.share
                if left < -1e-9:
                    self.errors[f"share{number}"] = (
                        "The shares add up to more than the whole position"
                    )
        if self.errors or size is None or entry is None or (stop is None and not brought):
            return
        try:
            self.plan = Plan(
                symbol=self.symbol,
                side=draft.side,
                size=size,
                stop=stop,
                targets=tuple(targets),
                trail=trail,
                timeframe_ns=(rig.span if rig is not None else 0) or self.span,
                entry=entry,
                anchor=ANCHORS.get(draft.anchor, "planned"),
                held=held,
                rig=rig,
            )
        except BadInput as error:
            self.errors["rig" if self.ladder is not None else "stop"] = error.sentence

    @property
    def ladder(self) -> Ladder | None:
        """The ladder of the draft's rig, which brings its own stop and target."""
        rig = self.rigs.get(self.draft.rig)
        return rig.ladder if rig is not None else None

    def _rig(self, name: str) -> Rig | None:
        rig = self.rigs.get(name)
        if name and rig is None:
            self.errors["rig"] = f"There is no rig named {name} any more; choose another"
        return rig

    def _entry(self, draft: Draft) -> EntryRule | None:
        good = self._field("good", fp.read_good, draft.good)
        self.straddle = None
        if good is None:
            return None
        straddle = self._field("entry", fp.read_straddle, draft.entry)
        if straddle is None:
            read = lambda text: fp.read_entry(text, good)  # noqa: E731
            return self._field("entry", read, draft.entry) if "entry" not in self.errors else None
        self.straddle, within = straddle
        return self._field(
            "entry",
            lambda _: EntryRule("stop", atr=self.straddle, within_ticks=within, good=good),
            draft.entry,
        )

    @property
    def waits(self) -> str:
        """The order that would wait, in words; nothing where the entry is at market."""
        if self.plan is None or not self.plan.entry.pending:
            return ""
        return waits_text(self.plan.side, self.plan.entry.kind)

    def _field(self, name: str, read: Callable[[str], Found], text: str) -> Found | None:
        try:
            found = read(text)
            return as_read(found) if isinstance(found, msgspec.Struct) else found
        except BadInput as error:
            self.errors[name] = error.text
            return None

    def reckon(self, snapshot: Snapshot) -> None:
        """Size the plan at this snapshot; `refusal` says why where there is no size, `closed` what
        keeps it out."""
        self.sizing, self.request, self.refusal = None, None, ""
        if self.plan is None:
            self.refusal = next(iter(self.errors.values()), "")
        else:
            try:
                self.request = plan_request(snapshot, self.plan, self.basis(), self.own_atr())
                self.sizing = sized(self.request)
            except Refused as refusal:
                self.refusal = refusal.sentence
        self.closed = self._closed(snapshot)

    def _closed(self, snapshot: Snapshot) -> tuple[Closed, ...]:
        """Why the plan may not enter now, before anybody tries; where it has errors, why nothing
        may."""
        view = snapshot.instrument(self.symbol)
        if view is None:
            return ()
        if self.plan is None:
            return view.closed
        r_ticks = float(self.sizing.r_ticks) if self.sizing is not None else math.nan
        sides = (1, -1) if self.straddle is not None else (self.plan.side,)
        found = [
            snapshot.closed_for(msgspec.structs.replace(self.plan, side=side), r_ticks)
            for side in sides
        ]
        return tuple(dict.fromkeys(one for closed in found for one in closed))

    @property
    def may_be_placed(self) -> bool:
        return self.sizing is not None and not self.closed and not self.unseen

    def trouble(self, now: int) -> str:
        """What keeps the plan from being placed at `now`, apart from what is wrong in a field;
        empty: nothing."""
        shut = f"Entries closed: {fg.reasons(self.closed, now)}" if self.closed else ""
        return self.unseen or ("" if self.errors else self.refusal) or shut

    def basis(self) -> float:
        """What the plan's stop stands on, where it is taken from bars; worked out once for each
        completed bar."""
        plan = self.plan
        if plan is None or plan.stop is None or not plan.stop.from_bars or self.bars is None:
            return math.nan
        key = (id(self.bars), plan.stop, plan.side, plan.rig)
        if self._basis[0] != key:
            simple = plan.rig is not None and plan.rig.atr_smoothing == "simple"
            self._basis = key, basis(plan.stop, self.bars, plan.side, simple)
        return self._basis[1]

    def own_atr(self) -> float:
        """The ATR of the plan's rig, where it is another than the one bars carry; for each
        completed bar once."""
        rig = self.plan.rig if self.plan is not None and own_atr(self.plan) else None
        if rig is None or self.bars is None:
            return math.nan
        key = (id(self.bars), rig.atr_length, rig.atr_smoothing)
        if self._atr[0] != key:
            self._atr = key, plan_atr(rig, self.bars)
        return self._atr[1]

    def with_stop_at(self, price: str) -> Draft:
        """The draft with its stop dragged to a price; a ladder's stays where its rig has it."""
        if self.ladder is not None:
            return self.draft
        return msgspec.structs.replace(self.draft, stop=price)

    def with_entry_at(self, price: str) -> Draft:
        """The draft with its pending entry dragged to a price."""
        assert self.plan is not None
        rule = msgspec.structs.replace(self.plan.entry, price=Decimal(price), atr=None)
        return msgspec.structs.replace(self.draft, entry=fp.entry_text(rule))

    def with_target_at(self, number: int, r: float) -> Draft:
        """The draft with target `number` (from 1) dragged to `r` R; a ladder's stays where its rig
        has it."""
        if self.ladder is not None:
            return self.draft
        rows = self.draft.rows()
        rows[number - 1] = (f"{max(0.01, r):.2f} R", rows[number - 1][1] or "rest")
        return msgspec.structs.replace(self.draft, targets=tuple(rows))


def with_rig(draft: Draft, rig: Rig | None, currency: str) -> Draft:
    """The draft with a rig's stop, targets and trail in its fields, tended by the rig; None: by
    what is typed alone."""
    if rig is None:
        return msgspec.structs.replace(draft, rig="")
    targets = tuple((fp.target_text(one), fp.share_text(one.share)) for one in rig.target)
    stop = fp.stop_text(rig.stop, currency) if rig.stop is not None else ""
    return msgspec.structs.replace(
        draft, rig=rig.name, stop=stop, targets=targets, trail=trail_text(rig.trail)
    )


def plan_of(rig: Rig, like: Plan) -> Plan:
    """A plan that puts the rig on a trade which has the plan `like`; raises BadInput where it
    cannot."""
    return msgspec.structs.replace(
        like,
        stop=rig.stop,
        targets=rig.target,
        trail=rig.trail,
        rig=rig,
        timeframe_ns=rig.span or like.timeframe_ns,
    )
