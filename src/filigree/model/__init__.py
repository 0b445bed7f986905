"""The nouns: plain, typed, immutable values. No input or output, and no family of system."""
