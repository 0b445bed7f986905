"""The formats of the `deb` family."""
