"""Numbers and sentences about results."""
