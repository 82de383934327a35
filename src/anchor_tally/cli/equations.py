"""Commands on published equations."""

from __future__ import annotations

import argparse
import dataclasses
import json

from ..domain.errors import UserError
from ..domain.metrics import metric_of
from ..methods.registry import catalogue
from ..wording.numbers import number


def method(args: argparse.Namespace) -> None:
    """Compute one equation."""
    from ..analysis.entry.field_method import evaluate  # brings SciPy, which the list does without

    bad = [text for text in args.inputs if "=" not in text]
    if bad:
        raise UserError(f'"{bad[0]}" is not of the form key=value')
    result = evaluate(args.equation, dict(text.split("=", 1) for text in args.inputs))
    if args.json:
        print(json.dumps(dataclasses.asdict(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    for key, value in result.outputs.items():
        m = metric_of(key)
        print(f"{m.label}: {number(value, m.decimals)}{'' if m.unit == '1' else f' {m.unit}'}")
    if not result.applies:
        print("Does not apply:")
    for line in (*result.notes, f"Source: {result.source}"):
        print(f"· {line}")


def methods(args: argparse.Namespace) -> None:
    """List all equations."""
    if args.json:
        print(json.dumps(catalogue(), indent=1, ensure_ascii=False))
        return
    for e in catalogue():
        print(f"{e['id']}: {', '.join(e['inputs'])} → {', '.join(e['outputs'])}")
        print(f"    {e['population']}; standard error {e['standard_error']}; {e['certainty']}")
        print(f"    {e['source']}")
