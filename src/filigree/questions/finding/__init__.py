"""Which package a path comes from, and why a file is where no package put it."""
