"""The modules of the program."""

import importlib
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
