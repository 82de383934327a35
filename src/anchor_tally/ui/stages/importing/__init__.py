"""Import: a table of any form, its columns, a preview, and only then the study."""
