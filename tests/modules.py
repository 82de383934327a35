"""The modules of the program, and what their functions and records assume where nothing is said."""

import dataclasses
import importlib
import inspect
import pkgutil

import anchor_tally

COMPUTED = ("stats", "analysis", "domain", "methods", "reports", "wording", "figures")
KEPT = ("app", "exchange", "feeds", "scenario", "study")


def modules_of(*packages):
    """All modules below some packages."""
    for package in packages:
        folder = f"{anchor_tally.__path__[0]}/{package}"
        for info in pkgutil.walk_packages([folder], f"anchor_tally.{package}."):
            yield importlib.import_module(info.name)


def assumed():
    """Defaults of public functions and records that are numbers, words or nothing, by name."""
    found = {}
    for module in modules_of(*COMPUTED, *KEPT):
        for name, item in vars(module).items():
            if name[:1] == "_" or getattr(item, "__module__", "") != module.__name__:
                continue
            record = isinstance(item, type) and dataclasses.is_dataclass(item)
            if inspect.isfunction(item) or record:
                given = inspect.signature(item).parameters.values()
                said = {
                    p.name: repr(p.default)
                    for p in given
                    if isinstance(p.default, bool | int | float | str | tuple) or p.default is None
                }
                if said:
                    found[f"{module.__name__}.{name}"] = said
    return found
