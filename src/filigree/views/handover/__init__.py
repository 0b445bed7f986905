"""Answers in open formats, for programs of others: made directly, by the published descriptions."""
