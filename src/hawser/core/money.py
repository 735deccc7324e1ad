"""Money for ledger and screen: rounded half-even to the currency's minor unit (ISO 4217)."""

from __future__ import annotations

from decimal import ROUND_HALF_EVEN, Context, Decimal

# ISO 4217 minor units that differ from 2, active currencies.
MINOR_UNITS: dict[str, int] = {
    **dict.fromkeys(
        (
            "BIF",
            "CLP",
            "DJF",
            "GNF",
            "ISK",
            "JPY",
            "KMF",
            "KRW",
            "PYG",
            "RWF",
            "UGX",
            "UYI",
            "VND",
            "VUV",
            "XAF",
            "XOF",
            "XPF",
        ),
        0,
    ),
    **dict.fromkeys(["BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND"], 3),
    **dict.fromkeys(["CLF", "UYW"], 4),
}


def minor_digits(currency: str) -> int:
    """Decimals of the currency's minor unit."""
    return MINOR_UNITS.get(currency, 2)


def rounded(amount: float, currency: str) -> Decimal:
    """`amount` rounded half-even to the currency's minor unit."""
    unit = Decimal(1).scaleb(-minor_digits(currency))
    # of any float
    return Decimal(repr(float(amount))).quantize(unit, ROUND_HALF_EVEN, Context(prec=320))
