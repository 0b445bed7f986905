"""The dependency graphs: of what is installed, and of what is offered."""
