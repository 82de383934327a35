"""Faces of Compare beside closeness: consistency, change, water, look-alikes, score card."""
