"""Open formats: tidy CSV and results as JSON."""
