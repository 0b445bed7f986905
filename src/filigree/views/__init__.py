"""Answers in; tables, lines, JSON and CSV out. Nothing here asks a question."""
