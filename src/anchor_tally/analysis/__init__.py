"""From a frozen snapshot of the study to a frozen result: one package for each kind of question."""
