"""Views of Compare beside agreement: consistency, change, water, look-alikes, score card."""
