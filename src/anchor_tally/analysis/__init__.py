"""One frozen request and one frozen result per question."""
