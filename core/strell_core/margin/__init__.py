"""What a position must be backed with, by strategy-based rules."""
