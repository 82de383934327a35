"""Seeded studies with known truth."""
