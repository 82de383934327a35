"""The one family of failures that are the world's fault; each carries a sentence for the user."""


class UserError(Exception):
    """Something the user can understand and mend: what happened, where, and what was kept."""


FAULT = "An error in the program stopped this. Details are in the log."
