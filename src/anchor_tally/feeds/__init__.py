"""Readings that come by themselves: the line protocol of a device, a watched folder, and stand-ins for both."""
