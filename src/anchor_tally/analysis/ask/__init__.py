"""What was asked: the state of the study and the filters that a result answers, and when an answer may be used again."""
