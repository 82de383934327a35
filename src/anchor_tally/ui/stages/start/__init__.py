"""Start page and guided set-up of a study."""
