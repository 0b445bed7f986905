"""The questions: a system in, an answer of result records out. One module a question."""
