"""A database that an earlier version wrote, in the middle of its work, and what that version said of it."""
