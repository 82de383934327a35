"""Readings that come by themselves: the line protocol of a device, a watched folder, and simulators of both."""
