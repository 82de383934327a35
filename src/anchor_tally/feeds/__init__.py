"""Automatic readings: the line protocol of a device, a watched folder, and simulators of both."""
