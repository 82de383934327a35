"""Resampling whole clients: how often each is drawn, in blocks of bounded memory."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .estimate import Floats

MOST_BYTES = 3 << 20  # of one block: small enough to stay near the processor


def client_weights(groups: int, draws: int, seed: int, columns: int = 0) -> Iterator[Floats]:
    """Draw bootstrap resamples of whole clients, in blocks.

    Parameters
    ----------
    groups : int
        Number of clients.
    draws : int
        Number of resamples.
    seed : int
        Seed of the generator. The same seed gives the same draws for any size of block.
    columns : int
        Width of what is computed from a block, which bounds the size of a block.

    Yields
    ------
    ndarray, shape (block, groups)
        How often each client is drawn.
    """
    rng = np.random.default_rng(seed)
    block = max(1, min(draws, MOST_BYTES // (8 * max(groups, columns))))
    shift = (np.arange(block) * groups)[:, None]
    done = 0
    while done < draws:
        rows = min(block, draws - done)
        drawn = rng.integers(0, groups, (rows, groups), dtype=np.uint32) + shift[:rows]
        yield (
            np.bincount(drawn.ravel(), minlength=rows * groups)
            .reshape(rows, groups)
            .astype(np.float64)
        )
        done += rows
