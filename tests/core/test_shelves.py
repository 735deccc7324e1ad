"""Tuples on a shelf, compiled and interpreted: what was put aside is taken up again, whole or in
part."""

from typing import Any, NamedTuple

import numpy as np
import pytest

from hawser.core.compiled import compiled, interpreted
from hawser.core.shelves import fetch, held, kind, part, put, put_part, shelf, shelf_for, shelf_of


class Inner(NamedTuple):
    count: int
    share: float
    on: bool


class Outer(NamedTuple):
    prices: np.ndarray
    inner: Inner
    number: int


def made(number: int) -> Outer:
    return Outer(np.arange(4.0) + number, Inner(number, number / 4, number % 2 == 0), 10 * number)


@compiled
def step(members: Any, of: Any, row: int, at: int) -> float:
    """Changes a row, and reads what it has become."""
    fetch(part(members, row, of, "prices"), at)
    one = held(members, row, of)
    put(members, row, Outer(one.prices, Inner(one.inner.count + 1, 0.5, True), one.number))
    put_part(members, row, of, "inner.share", part(members, row, of, "inner.share") + 0.25)
    return float(part(members, row, of, "prices")[at] + part(members, row, of, "inner.count"))


@compiled
def each(made_of: Any, like: Any, rows: int) -> float:
    total = 0.0
    for row in range(rows):
        total += step(shelf(made_of), kind(like), row, 3)
    return total


@compiled
def taken(made_of: Any, like: Any, row: int) -> Any:
    return held(shelf(made_of), row, kind(like)).inner


def test_what_is_put_aside_is_taken_up_again():
    values = [made(number) for number in range(5)]
    bytes_of = shelf_of(values)
    expected = sum(3 + number + number + 1 for number in range(5))
    assert each(bytes_of, values[0], 5) == expected
    assert each(bytes_of, values[0], 5) == expected + 5  # it has changed, and the arrays have not
    assert tuple(taken(bytes_of, values[0], 4)) == (6, 0.75, True)
    assert taken(shelf_for(1, made(0)), made(0), 0).count == 0


@pytest.mark.skipif(interpreted(), reason="a list holds anything")
def test_tuples_of_two_kinds_have_no_shelf():
    whole = made(1)._replace(prices=np.arange(4))
    frozen = np.arange(4.0)
    frozen.flags.writeable = False
    for other in (whole, made(1)._replace(prices=frozen), made(1)._replace(number=1.5)):
        with pytest.raises(TypeError):
            shelf_of([made(0), other])
