"""What the bench needs while a visit is entered: rows, repeats, checks of a typed value, equations, the assessor's own error."""
