"""What is planned: the calendar, the precision to expect, the order of devices, drawn studies."""
