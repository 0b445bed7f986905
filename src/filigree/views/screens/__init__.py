"""One module a question: its answer as lines for a person, and as rows for programs."""
