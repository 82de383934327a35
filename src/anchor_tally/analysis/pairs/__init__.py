"""Which readings are compared with which scan, and what their differences tell at once: spread, slopes, drift."""
