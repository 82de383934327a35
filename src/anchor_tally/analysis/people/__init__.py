"""Who must not be measured, or shown a number, and where a value lies in published ranges."""
