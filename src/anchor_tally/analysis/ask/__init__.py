"""What a result answers: the state of the study, the filters, and when it may be used again."""
