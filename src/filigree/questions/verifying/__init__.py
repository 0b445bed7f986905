"""Whether files are as they are to be."""
