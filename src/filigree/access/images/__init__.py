"""Images of containers as trees: where their blobs are, what layers tell, how they lie on each other."""
