"""A trader's own history, before it is opened: its files, how they are read, and what they are of;
without Qt."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.bars import Bars, joined
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument, Kind
from hawser.desk.models.own_account import own_account
from hawser.formats.declared import as_read
from hawser.formats.importing.head import Head, head
from hawser.formats.importing.history import History
from hawser.formats.importing.importing import Imported, deciding_row, import_files
from hawser.formats.importing.reading import guessed, names_in
from hawser.formats.importing.recipe import Dates, Recipe
from hawser.service.profiles.recipes import Recipes

PAIR = re.compile(r"(?<![A-Z])([A-Z]{3})[/_.-]?([A-Z]{3})(?![A-Z])")
# ISO 4217 codes of pairs that are often traded: other words of six letters propose no pair
CURRENCIES = frozenset(
    (
        *(
            "AUD",
            "BRL",
            "CAD",
            "CHF",
            "CNH",
            "CNY",
            "CZK",
            "DKK",
            "EUR",
            "GBP",
            "HKD",
            "HUF",
            "ILS",
        ),
        *(
            "INR",
            "JPY",
            "KRW",
            "MXN",
            "NOK",
            "NZD",
            "PLN",
            "SEK",
            "SGD",
            "THB",
            "TRY",
            "USD",
            "ZAR",
        ),
    )
)
# how dates are written, in words
DATES: dict[Dates, str] = {
    "ymd": "year, month, day",
    "dmy": "day, month, year",
    "mdy": "month, day, year",
    "s": "seconds from 1970",
    "ms": "milliseconds from 1970",
    "us": "microseconds from 1970",
    "ns": "nanoseconds from 1970",
}
# What an instrument of each kind is like, as a first proposal: multiplier, quantity step, least and
# greatest quantity, margin as a fraction, and what the multiplier is, in words.
KINDS: dict[Kind, tuple[str, str, str, str, str]] = {
    "fx": ("100000", "0.01", "100", "0.05", "how much of the first currency one unit is"),
    "equity": ("1", "1", "1000000", "1", "1 for a share: one unit gains what its price does"),
    "index": ("1", "0.1", "10000", "0.05", "what one unit gains where the index rises by 1"),
    "future": ("10", "1", "1000", "0.1", "what one contract gains where the price rises by 1"),
    "option": ("100", "1", "1000", "1", "how many shares one contract is for"),
    "crypto": ("1", "0.0001", "100000", "0.5", "1 where one unit is one coin"),
}


class OwnHistory:
    """What is chosen and typed. `head` is None while nothing can be read, and `wrong` says why."""

    def __init__(self, recipes: Recipes | None = None) -> None:
        self._recipes = recipes
        self._guessed, self._names = Recipe(), tuple[str, ...]()
        self._told: object = None  # the way of reading whose odd rows have been told
        self._sure = False  # whether a person chose the order of dates
        self.remembered = False  # whether it is read as the last file of its shape was
        self.paths: tuple[Path, ...] = ()
        self.recipe = Recipe()
        self.head: Head | None = None
        self.wrong = ""
        self.symbol, self.quote, self.tick = "", "CHF", "0.01"
        self.kind: Kind = "equity"
        self.multiplier = KINDS["equity"][0]
        self.money, self.currency, self.percent, self.rate = "10 000", "", "0.5", ""
        self.spread = "0"
        self._from_file: Instrument | None = None

    def choose(self, paths: Sequence[Path]) -> None:
        """Other files, read as the first one looks, or as one of its shape was read before."""
        self.paths, self._from_file, zone = tuple(paths), None, self.recipe.zone
        self.remembered, self._names, self._sure = False, (), False
        try:
            self._guessed = guessed(self.paths[0])
            self._names = names_in(self.paths[0], self._guessed)
        except BadInput as error:
            self.head, self.wrong = None, error.sentence
            return
        self.recipe = msgspec.structs.replace(self._guessed, zone=zone)
        known = self._recipes and self._recipes.known(self._guessed, self._names)
        if known:
            self.recipe, self.remembered, self._sure = known, True, True
        self._name_it()
        self._look()
        if self.head is not None:
            self.tick = self.head.tick

    def change(self, **keys: Any) -> None:
        """The files are read another way."""
        if self.paths and not self._names:  # nothing is known of them, and why stands there
            return
        try:
            self.recipe = as_read(msgspec.structs.replace(self.recipe, **keys))
        except BadInput as error:
            self.head, self.wrong = None, error.sentence
            return
        before, self._sure = self.head, self._sure or "dates" in keys
        self._look()
        if before is None and self.head is not None:
            self.tick = self.head.tick

    def _look(self) -> None:
        self.head, self.wrong = None, ""
        if not self.paths:
            return
        try:
            self.head = head(self.paths[0], self.recipe, self._sure)
            self.recipe = msgspec.structs.replace(self.recipe, dates=self.head.dates)
        except BadInput as error:
            self.wrong = error.sentence
            if error.code == "naive_time":
                self.wrong = "Its times have no offset: choose the zone that they are in"

    def _name_it(self) -> None:
        """What it is of, by the file's name."""
        stem = self.paths[0].name.split(".")[0]
        pairs = (one for one in PAIR.finditer(stem.upper()) if {*one.groups()} <= CURRENCIES)
        pair = next(pairs, None)
        if pair is not None:
            self.symbol, self.quote = f"{pair[1]}/{pair[2]}", pair[2]
            self.take_kind("fx")
        else:
            self.symbol = stem[:40]
            self.take_kind("equity")

    def take_kind(self, kind: Kind) -> None:
        """Another kind of instrument, with what is usual for it."""
        self.kind, self.multiplier = kind, KINDS[kind][0]

    def take_instrument(self, instrument: Instrument) -> None:
        """An instrument from a file; what no field shows is kept."""
        self._from_file = instrument
        self.symbol, self.kind, self.quote = instrument.symbol, instrument.kind, instrument.quote
        self.tick, self.multiplier = str(instrument.tick), f"{instrument.multiplier:.12g}"

    @property
    def assumed(self) -> str:
        """What is taken for granted, in words: no field asks for it."""
        of = self._from_file
        if of is not None:
            return "Quantity, margin and commission are those of its file."
        _, step, most, margin, _ = KINDS[self.kind]
        return (
            f"Taken for granted until you change it: quantities from {step} to {most} in steps of "
            f"{step}, a margin of {fg.percent(100 * float(margin), 0)}, no commission, no hours."
        )

    @property
    def example(self) -> str:
        """What the figures come to, in money, while they are typed."""
        try:
            gains = float(Decimal(self.tick) * Decimal(self.multiplier))
        except InvalidOperation:
            return ""
        money = f"{fg.number(gains, 2 if gains >= 0.01 else 6)} {self.quote}"
        return f"A rise of {self.tick} gains {money} for each unit"

    def instrument(self) -> Instrument:
        """Raises BadInput, in words."""
        numbers: dict[str, Decimal] = {}
        for key, text in (("tick", self.tick), ("multiplier", self.multiplier)):
            try:
                numbers[key] = Decimal(text.strip())
            except InvalidOperation:
                raise BadInput(
                    "bad_instrument", f"{key}: expected a number, got '{text}'"
                ) from None
        _, step, most, margin, _ = KINDS[self.kind]
        symbol = self.symbol.strip()
        pair = PAIR.fullmatch(symbol.upper()) if self.kind == "fx" else None
        beside = self._from_file or Instrument(
            symbol=symbol or "?",
            kind=self.kind,
            quote="CHF",
            base=pair[1] if pair is not None else None,
            tick=Decimal(1),
            multiplier=1.0,
            qty_step=Decimal(step),
            qty_min=Decimal(step),
            qty_max=Decimal(most),
            margin_rate=float(margin),
        )
        return as_read(
            msgspec.structs.replace(
                beside,
                symbol=symbol,
                kind=self.kind,
                quote=self.quote.strip().upper(),
                tick=numbers["tick"],
                multiplier=float(numbers["multiplier"]),
            )
        )

    @property
    def needs_spread(self) -> bool:
        """Whether the file says nothing of the spread."""
        head = self.head
        return head is not None and self.recipe.kind == "bars" and "spread" not in head.names

    @property
    def money_is(self) -> str:
        """The account's currency: the price's own, until another is typed."""
        return self.currency.strip().upper() or self.quote.strip().upper()

    @property
    def pair(self) -> str:
        """The rate that the account needs, as its file calls it; nothing where it needs none."""
        quote = self.quote.strip().upper()
        return "" if self.money_is == quote else f"{quote}/{self.money_is}"

    def account(self) -> Account:
        """Raises BadInput, in words."""
        rates = {self.pair: self.rate} if self.pair else {}
        if self.pair and not self.rate.strip():
            first, _, second = self.pair.partition("/")
            raise BadInput(
                "rate_missing", f"Type how many {second} one {first} is: the account needs it"
            )
        spread = self.spread if self.needs_spread else "0"
        return own_account(
            self.symbol.strip(),
            self.money_is,
            self.money,
            percent=self.percent,
            rates=rates,
            spread=spread,
        )

    def to_be_told(self, found: Imported) -> list[str]:
        """What is odd in the rows, once for each way to read them."""
        way = (self.paths, self.recipe, self.tick)
        told = found.worth_a_look() if way != self._told else []
        self._told = way
        return told

    def read(self) -> tuple[Imported, Instrument, Account]:
        """All of it; raises BadInput, also where a row further down shows another order of dates
        than the first rows were read in: they are to be looked at again. Quotes come as bars of a
        minute."""
        instrument, account = self.instrument(), self.account()
        found = import_files(self.paths, self.recipe, instrument=instrument, sure=self._sure)
        if found.recipe.dates != self.recipe.dates:
            self.recipe, self._sure = found.recipe, True
            self._look()
            row = next(filter(None, map(deciding_row, found.reads)), None)
            shown = f"Row {row} shows" if row is not None else "The order of all rows shows"
            sentence = f"{shown} how dates are written: {DATES[found.recipe.dates]}"
            raise BadInput("dates_decided", f"{sentence}. Look at the rows again, and open it")
        if self._recipes is not None:
            with contextlib.suppress(BadInput, OSError):  # it is asked for again
                self._recipes.keep(self._guessed, self._names, self.recipe)
        if found.history.ticks:
            found = found._replace(history=bars_of(found.history, instrument))
        return found, instrument, account


def bars_of(ticks: History, instrument: Instrument) -> History:
    """Quotes as bars of a minute, with the spread of the last quote in ticks."""
    bid, ask = ticks.columns["bid"], ticks.columns["ask"]
    spread = np.rint((ask - bid) / instrument.tick_size)
    made = joined(Bars(ticks.times, bid, bid, low=bid, close=bid, spread=spread), MINUTE)
    columns = dict(zip(("open", "high", "low", "close", "spread"), made[1:], strict=True))
    nowhere = np.zeros(made.time.size, np.int64)
    return ticks._replace(ticks=False, times=made.time, columns=columns, file=nowhere, row=nowhere)
