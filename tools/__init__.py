"""What the developers measure and compare with."""
