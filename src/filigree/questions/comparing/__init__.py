"""Two roots, held against each other: what is another, and what explains it."""
