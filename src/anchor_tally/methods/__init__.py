"""Published field equations with their sources."""
