"""What runs now, held against what is on the disk."""
