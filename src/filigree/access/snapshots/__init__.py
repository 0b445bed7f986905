"""Snapshots: a root as it was at a time, in one file."""
