"""Hawser: sizes, protects and tends trades, and stops trading when it should."""

__version__ = "0.1.0"
