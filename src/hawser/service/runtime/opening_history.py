"""Opening a person's own history: files in, a profile's account, venue and ledger out."""

from __future__ import annotations

from copy import copy
from pathlib import Path

from hawser.core.account import Account, Policy, SizeRule
from hawser.core.errors import BadInput, Refused
from hawser.core.fx import convert, line_for
from hawser.core.instrument import Instrument
from hawser.formats.declared import load
from hawser.formats.history_file import read_history
from hawser.ledger.ledger import ledger_for
from hawser.service.own_columns import OwnColumns
from hawser.service.profiles.profile import Profile
from hawser.service.runtime.hooks import Boot
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.replay import ReplayFeed
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES


class Inputs:
    """The person's files, read and checked before any window opens. Raises BadInput."""

    def __init__(
        self,
        bars: Path,
        instrument: Path,
        account: Path | None = None,
        *,
        zone: str | None = None,
        recipe: Path | None = None,
    ) -> None:
        self.path = bars
        self.instrument = load(Instrument, instrument)
        self.account = load(Account, account) if account else default_account(self.instrument)
        _check_rate(self.instrument, self.account, account)
        self.history = read_history(bars, self.instrument, zone=zone, recipe=recipe)
        self.columns = OwnColumns(bars, self.instrument, zone, recipe)

    def with_account(self, account: Path) -> Inputs:
        """The same history for another account; read and checked like the first."""
        other = copy(self)
        other.account = load(Account, account)
        _check_rate(other.instrument, other.account, account)
        return other


def _check_rate(instrument: Instrument, account: Account, named: Path | None) -> None:
    try:
        convert(instrument.quote, account.currency, account.rates)
    except Refused as refusal:
        sentence = f"{named}: rates: {refusal.sentence.rstrip('.')}{line_for(refusal)}"
        raise BadInput("rate_missing", sentence) from None


def default_account(instrument: Instrument) -> Account:
    """Where no account is given: 10 000 of the instrument's own currency, so that no conversion is
    needed."""
    return Account(
        currency=instrument.quote,
        equity=10_000.0,
        balance=10_000.0,
        size=SizeRule(percent=0.5),
        policy=Policy(max_heat_percent=3.0),
    )


def boot(inputs: Inputs, profile: Profile) -> Boot:
    """The replay where it was left, or from its start."""
    with ledger_for(profile.ledger) as ledger:
        feed = ReplayFeed(inputs.instrument, inputs.history.bars, inputs.account.costs.spread_ticks)
        balance = inputs.account.basis_money("balance")
        venue = Quay(
            feed,
            inputs.account.currency,
            balance,
            inputs.account.rates,
            SEVERITIES["fair"],
            store=BookStore(profile.venue),
            not_before=ledger.look().now,
        )
        notes = []
        if inputs.history.off_grid:
            count, tick = inputs.history.off_grid, inputs.instrument.tick
            notes.append(
                f"{inputs.path.name}: {count} prices were off the tick of {tick} and were "
                "rounded to it"
            )
        return Boot(inputs.account, venue, ledger, venue, notes=notes, columns=inputs.columns)
