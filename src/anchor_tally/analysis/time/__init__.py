"""What changes through time: a device's error (drift), and one client's value (track)."""
