"""The numbers behind a figure as rows of text."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields, is_dataclass
from datetime import date
from typing import Any

import numpy as np

HEADS = ("part", "row", "quantity", "value")
Row = tuple[str, str, str, str]


def numbers_behind(shown: object) -> tuple[Row, ...]:
    """What a figure shows, one number a row.

    Parameters
    ----------
    shown : object
        The content of the figure: a dataclass of numbers, texts, arrays and dataclasses.

    Returns
    -------
    tuple of (str, str, str, str)
        Part of the figure, row within the part from 1, quantity, value. What is not there has no
        row. Numbers are written in full, with a point.

    Examples
    --------
    >>> from dataclasses import dataclass
    >>> @dataclass
    ... class Bar:
    ...     name: str
    ...     high: float
    >>> @dataclass
    ... class Bars:
    ...     bars: tuple[Bar, ...]
    ...     label: str
    >>> numbers_behind(Bars((Bar("a", 1.5),), "pp"))[1:]
    (('bars', '1', 'high', '1.5'), ('', '', 'label', 'pp'))
    """
    if not (is_dataclass(shown) and not isinstance(shown, type)):
        return ()
    return tuple(
        row for f in fields(shown) for row in _walk("", "", f.name, getattr(shown, f.name))
    )


def _walk(part: str, row: str, name: str, value: Any) -> Iterator[Row]:
    if value is None or callable(value):
        return
    if isinstance(value, str | bool | int | float | np.generic | date):
        plain = value.item() if isinstance(value, np.generic) else value
        yield part, row, name, plain.isoformat() if isinstance(plain, date) else str(plain)
    elif is_dataclass(value) and not isinstance(value, type):
        for f in fields(value):
            inner = f"{name} {f.name}" if name else f.name
            yield from _walk(part, row, inner, getattr(value, f.name))
    elif isinstance(value, Mapping):
        for key, inside in value.items():
            yield from _walk(part, row, f"{name} {key}".strip(), inside)
    elif isinstance(value, np.ndarray | tuple | list):
        for k, inside in enumerate(value, start=1):
            if row:  # a list within a row of the figure
                yield from _walk(part, row, f"{name} {k}".strip(), inside)
            else:
                plain = isinstance(inside, str | bool | int | float | np.generic | date)
                yield from _walk(name, str(k), name if plain else "", inside)
