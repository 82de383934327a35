"""What the bench needs during a visit.

Rows, repeats, checks of typed values, equations and the assessor's own error.
"""
