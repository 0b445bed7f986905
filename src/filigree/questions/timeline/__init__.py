"""What happened to a system, in order, of all that tells."""
