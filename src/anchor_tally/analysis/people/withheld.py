"""What of whom may be shown: one rule for screens, notes, documents, commands and files."""

from __future__ import annotations

from collections.abc import Iterable

from ...domain.metrics import is_measured, tells_fat
from ...domain.records import Client

SHOWN = "fat_shown"  # the coach chose to see the fat numbers of a protected client


def withheld(client: Client | None, metric: str, *, on_page: bool = False) -> str:
    """Why no value of a metric may be shown of a client; "" where it may.

    Parameters
    ----------
    client : Client or None
        Whose value it is; nothing is withheld of nobody.
    metric : str
        Id of the metric.
    on_page : bool
        The client will read it: what only the coach may see is withheld, and waist and body mass
        of a protected client as well.

    Notes
    -----
    A client with a history of disordered eating is shown no fat number and none that tells it
    (common practice); the coach can choose to see them. In pregnancy impedance, scans and
    equations do not apply, so that only what scale, tape and calliper read is shown.
    """
    if client is None:
        return ""
    if "pregnant" in client.cautions and not is_measured(metric):
        return f"{client.code}: pregnancy: impedance, scans and equations do not apply now"
    if "eating_disorder" not in client.cautions:
        return ""
    judged = metric == "body_mass" or metric.startswith(("girth_waist", "waist_", "body_mass_"))
    if on_page and (judged or tells_fat(metric)):
        return f"{client.code}: history of disordered eating: not on the client's page"
    if tells_fat(metric) and SHOWN not in client.cautions:
        return (
            f"{client.code}: history of disordered eating: no fat number is shown. Choose a girth,"
            " and work with the treating team"
        )
    return ""


def all_withheld(clients: Iterable[Client], metric: str) -> str:
    """Why nothing of a metric may be shown of these clients; "" where one of them may be."""
    found = [withheld(c, metric) for c in clients]
    return found[0] if found and all(found) else ""


def fat_unseen(client: Client | None) -> bool:
    """Whether the bench shows a client sums and girths only."""
    return client is not None and {"eating_disorder", SHOWN} & client.cautions == {
        "eating_disorder"
    }
