"""Record: the bench, its stations, and what is shown while measuring."""
