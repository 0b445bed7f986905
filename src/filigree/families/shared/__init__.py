"""What several families do alike."""
