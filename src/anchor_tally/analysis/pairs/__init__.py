"""Which readings are compared with which scan.

Also spread, slopes and drift of their differences.
"""
