"""Calibrate."""
