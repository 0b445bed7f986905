"""The formats of the `rpm` family."""
