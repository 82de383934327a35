"""Days up to which two visits count as neighbours: by default, and at most.

Apart from the arithmetic, so that a command's help loads no array library.
"""

NEAR_DAYS, MOST_NEAR_DAYS = 3, 7
