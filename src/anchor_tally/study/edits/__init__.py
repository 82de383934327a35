"""Typed edits of a study, one kind a module.

One base writes them, keeps their inverse and reports what changed.
"""
