"""Many systems, kept as tables and asked as one."""
