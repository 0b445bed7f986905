"""What could be installed together: the rules of a system as logic, and a solver for it."""
