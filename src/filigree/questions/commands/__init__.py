"""A module a command: the system in, an answer of records out."""
