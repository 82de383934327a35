"""Anchor Tally: body-composition devices against a reference scan, with honest uncertainty."""

__version__ = "0.1.0"
