"""Rules: what makes findings of what was found."""
