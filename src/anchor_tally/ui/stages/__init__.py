"""One screen for each stage of the work."""
