"""The formats of the `arch` family."""
