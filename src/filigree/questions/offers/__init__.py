"""What repositories offer: the indexes that may be believed, opened."""
