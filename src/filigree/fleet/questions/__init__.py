"""The questions that are asked of all hosts of a store: a module a question."""
