"""Typed edits of a study, one kind a module, on one base that writes, keeps the way back and tells what was touched."""
