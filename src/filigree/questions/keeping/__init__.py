"""A root, kept: what every question asks of it is found by asking, and recorded."""
