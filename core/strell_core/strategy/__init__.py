"""The strategy document: what a person may write, and what it means."""
