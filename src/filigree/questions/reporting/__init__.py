"""What is handed over: an inventory of a system, and a whole audit of it."""
