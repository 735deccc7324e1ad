"""Widgets that paint all of themselves, however little of them is asked for. Listed as they are
made: a form has thousands of widgets, and to search them for a chart took 5 ms."""

from __future__ import annotations

from itertools import count
from weakref import WeakValueDictionary

from PyQt6 import sip
from PyQt6.QtWidgets import QWidget

_numbers = count()
_known: WeakValueDictionary[int, QWidget] = WeakValueDictionary()


def list_canvas(widget: QWidget) -> None:
    """This is one."""
    _known[next(_numbers)] = widget


def canvases_in(part: QWidget) -> list[QWidget]:
    """Those in a part of a window that can be seen, in the order in which they were made."""
    there = [one for one in _known.values() if not sip.isdeleted(one)]
    return [one for one in there if part.isAncestorOf(one) and one.isVisible()]
