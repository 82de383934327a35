"""Report: the pages of every document, as they are printed."""
