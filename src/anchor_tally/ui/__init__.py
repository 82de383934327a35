"""The PyQt6 window."""
