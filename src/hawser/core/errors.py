"""Errors as types with codes, saying whose fault it was.

Every error carries a `code` a program can compare, a `sentence` a person can read, and the `values`
that the sentence speaks of.
"""

from __future__ import annotations

import unicodedata

# All that decoding bytes from outside may raise: the decoder's own errors and a UnicodeDecodeError,
# which are ValueErrors, and a RecursionError for what is nested too deeply.
UNDECODABLE = (ValueError, RecursionError)
MOST_TOLD = 600  # signs of a sentence: what it quotes from outside may be of any length


def shows(sign: str) -> bool:
    """Whether a sign is seen where it stands: a letter, a figure, any space, and no control of a
    line or a terminal."""
    # a no-break space counts as not printable
    return sign.isprintable() or unicodedata.category(sign) == "Zs"


def is_line(text: str, most: int) -> bool:
    """Whether a name fits on one line of at most `most` signs."""
    return len(text) <= most and all(map(shows, text))


def one_line(text: str, most: int = MOST_TOLD) -> str:
    """A sentence on one line without control characters, its middle left out where it is long."""
    if len(text) > most:
        text = f"{text[: most * 2 // 3]} ... {text[-most // 3 :]}"
    return "".join(sign if shows(sign) else ascii(sign)[1:-1] for sign in text)


class HawserError(Exception):
    """Base of all errors Hawser raises on purpose."""

    def __init__(self, code: str, sentence: str, **values: object) -> None:
        sentence = one_line(sentence)
        super().__init__(sentence)
        self.code = code
        self.sentence = sentence
        self.values = values


class BadInput(HawserError):
    """What came from outside (a file, a request, a person's entry) is wrong; nothing was changed.

    Where one key is meant, `values` has its `place` (`policy.caps`) and the `text` of the sentence
    without it.
    """

    @classmethod
    def at(cls, code: str, place: str, text: str, **values: object) -> BadInput:
        """What is wrong with the key at `place`."""
        return cls(code, f"{place}: {text}", place=place, text=text, **values)

    @property
    def place(self) -> str:
        """The key that is meant, by its way through the file; empty where the whole is."""
        return str(self.values.get("place", ""))

    @property
    def text(self) -> str:
        """What is wrong there, beginning with a capital letter: for a form, which shows it beside
        the field."""
        told = str(self.values.get("text", self.sentence))
        return told[:1].upper() + told[1:]


class Refused(HawserError):
    """The request was understood and Hawser declines it; `code` is one of the reckoning's
    refusals."""


class VenueRefused(HawserError):
    """The venue answered and said no."""


class Unavailable(HawserError):
    """Something Hawser needs (venue, display, file system) is not there now; trying again may
    help."""


class HawserBug(HawserError):
    """A state that should be impossible: the fault is ours."""
