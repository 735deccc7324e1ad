"""Folders and files that only their owner may read, each account in its own."""

import contextlib
import errno
import os
import sqlite3
import stat

import msgspec
import pytest

from hawser.core.errors import BadInput, Unavailable
from hawser.service.profiles.profile import account_profile, profile
from hawser.venue import port
from hawser.venue.quay.book import BookState
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES
from hawser.verification import world as storm_world


def mode(path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


def test_folders_that_were_open_to_others_are_closed(tmp_path):
    (tmp_path / "config").mkdir(mode=0o755)
    made = profile("demo", tmp_path)
    assert [mode(folder) for folder in (made.data, made.config, made.state)] == [0o700] * 3


def test_accounts_of_like_names_have_folders_of_their_own_whichever_comes_first(tmp_path):
    names = ("A/B", "A-B", "a b", "A/B")
    found = [account_profile("demo", name, tmp_path) for name in names]
    assert len({one.data for one in found[:3]}) == 3
    assert found[3] == found[0]
    assert found[0].name == "demo-a-b"  # as it was called before there were several
    again = [account_profile("demo", name, tmp_path) for name in reversed(names)]
    assert [one.data for one in again] == [one.data for one in reversed(found)]


@pytest.mark.parametrize("left", [b"", b"\0\0\0"])
def test_an_account_s_mark_that_a_power_cut_emptied_leads_to_the_same_record(tmp_path, left):
    """It once led to another folder, whose record knew nothing of what was open."""
    made = account_profile("demo", "Harbour", tmp_path)
    (made.state / "account").write_bytes(left)
    assert account_profile("demo", "Harbour", tmp_path) == made
    assert (made.state / "account").read_text() == "Harbour"
    assert account_profile("demo", "harbour", tmp_path) != made


def test_an_account_s_mark_that_cannot_be_a_name_is_told(tmp_path):
    made = account_profile("demo", "Harbour", tmp_path)
    (made.state / "account").write_bytes(b"\xff\xfe")
    with pytest.raises(
        BadInput, match="account: expected the name of the account whose folders these are"
    ):
        account_profile("demo", "Harbour", tmp_path)


def test_an_account_whose_mark_cannot_be_written_is_opened_all_the_same(tmp_path, monkeypatch):
    monkeypatch.setattr("hawser.formats.atomic.os.fsync", full)
    made = account_profile("demo", "Harbour", tmp_path)
    assert not (made.state / "account").exists()
    monkeypatch.undo()
    assert account_profile("demo", "Harbour", tmp_path) == made


def full(*_: object) -> None:
    raise OSError(errno.ENOSPC, "No space left on device")


def test_the_venue_s_books_are_its_owner_s_also_where_an_earlier_version_left_them_open(tmp_path):
    old = os.umask(0o022)
    try:
        path = tmp_path / "quay.sqlite"
        sqlite3.connect(path).execute("CREATE TABLE x (y)").connection.close()
        assert mode(path) == 0o644
        store = BookStore(path)
        store.save(BookState(now=1, balance=1.0), ())
        assert {mode(one) for one in tmp_path.iterdir()} == {0o600}
        store.close()
        BookStore(tmp_path / "new.sqlite").close()
        assert mode(tmp_path / "new.sqlite") == 0o600
    finally:
        os.umask(old)


class FullAtTimes(BookStore):
    full = False

    def _write(self, state, names):
        if self.full:
            self._db.execute("BEGIN IMMEDIATE")
            raise sqlite3.OperationalError("database or disk is full")
        super()._write(state, names)


def test_a_venue_whose_books_cannot_be_written_goes_on_and_writes_them_later(tmp_path):
    store = FullAtTimes(tmp_path / "quay.sqlite")
    quay = Quay(
        storm_world.feed_of(storm_world.WORLD, 1),
        "CHF",
        64_000.0,
        dict(storm_world.RATES),
        SEVERITIES["calm"],
        1,
        store,
    )
    store.full = True
    with pytest.raises(Unavailable):
        store.save(quay.book.state, ())
    symbol = next(iter(quay.instruments))
    until = quay.now + 10**10
    while quay.next_message(until) is not None:
        pass
    quay.send(port.NewOrder(id="o1", symbol=symbol, side=1, kind="market", qty="1.00"), quay.now)
    heard = []
    while (message := quay.next_message(until + 10**10)) is not None:
        heard.append(message)
    assert any(isinstance(one, port.Filled) for one in heard)
    store.full = False
    quay.close()
    assert "o1" in BookStore(tmp_path / "quay.sqlite").load().orders


def books(path, traded=storm_world.WORLD, currency="CHF"):
    rates = dict(storm_world.RATES)
    feed = storm_world.feed_of(list(traded), 1)
    return Quay(feed, currency, 64_000.0, rates, SEVERITIES["calm"], 1, BookStore(path))


def test_books_that_mean_something_else_by_now_are_not_gone_on_with(tmp_path):
    """Levels and quantities are whole ticks and steps: with another tick a stop would lie
    elsewhere."""
    path = tmp_path / "quay.sqlite"
    (first, how), *others = storm_world.WORLD
    quay = books(path)
    until = quay.now + 10**10
    while quay.next_message(until) is not None:
        pass
    quay.stray(first.symbol, 1, 3)
    quay.close()
    with pytest.raises(
        Unavailable, match=f"hold {first.symbol}; expected to be started with its instrument too"
    ):
        books(path, others)
    finer = msgspec.structs.replace(first, tick=first.tick / 10)
    with pytest.raises(
        Unavailable,
        match=f"hold {first.symbol} with tick {first.tick} and .*; expected the same, not",
    ):
        books(path, [(finer, how), *others])
    with pytest.raises(Unavailable, match="books are in CHF; expected the same, not USD"):
        books(path, currency="USD")
    again = books(path)
    assert len(again.book.state.positions) == 1
    again.close()


@pytest.mark.parametrize(
    "spoil",
    [
        "UPDATE book SET state = x'ff00'",
        "UPDATE book SET state = x''",
        "ALTER TABLE book RENAME state TO x",
    ],
)
def test_books_that_cannot_be_read_are_told_in_one_sentence(tmp_path, spoil):
    path = tmp_path / "quay.sqlite"
    books(path).close()
    with contextlib.closing(sqlite3.connect(path)) as other:
        other.execute(spoil)
        other.commit()
    with pytest.raises(Unavailable, match="state cannot be read"):
        BookStore(path).load()
