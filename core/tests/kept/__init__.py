"""What an earlier version decided and wrote, kept as it was: later versions decide the same and read it."""
