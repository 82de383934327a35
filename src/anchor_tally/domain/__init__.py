"""Metrics, units, records, the frozen snapshot and the lens: what the program talks about."""
