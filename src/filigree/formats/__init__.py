"""Open file formats: bytes in, plain records out. One module a format; none knows of systems."""
