"""Order of the devices at each visit, counterbalanced against carry-over.

Williams EJ. 1949, Aust J Sci Res A 2:149 (construction from memory).
"""

from __future__ import annotations

Order = tuple[int, ...]


def williams(n: int) -> tuple[Order, ...]:
    """Sequences in which each treatment follows each other one equally often.

    Parameters
    ----------
    n : int
        Number of devices, 1 or more.

    Returns
    -------
    tuple of tuple of int
        n sequences of 0 to n − 1 where n is even, 2n where it is odd. Each device stands equally
        often at each place.

    Examples
    --------
    >>> williams(4)
    ((0, 1, 3, 2), (1, 2, 0, 3), (2, 3, 1, 0), (3, 0, 2, 1))
    >>> len(williams(3))
    6
    """
    first, low, high = [0], 1, n - 1
    while low <= high:
        first.append(low)
        if low < high:
            first.append(high)
        low, high = low + 1, high - 1
    rows = [tuple((x + k) % n for x in first) for k in range(n)]
    if n % 2 and n > 1:
        rows += [row[::-1] for row in rows]
    return tuple(rows)


def order_at(n: int, client: int, visit: int) -> Order:
    """Order of n devices for a client's visit.

    Parameters
    ----------
    n : int
        Number of devices.
    client : int
        Place of the client among all, from 0.
    visit : int
        Number of the client's earlier visits.

    Returns
    -------
    tuple of int
        Over n visits (2n where n is odd) of a client each sequence is used once; clients begin at
        different ones.
    """
    rows = williams(n)
    return rows[(client + visit) % len(rows)]
