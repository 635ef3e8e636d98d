"""Measures that are known when a session begins: the calendar, and what is announced for days to come."""
