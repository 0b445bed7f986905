"""What stands behind a package: keys, signatures, archives that it can be held against."""
