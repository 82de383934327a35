"""The open session: study, snapshot, lens, undo and redo; no Qt."""
