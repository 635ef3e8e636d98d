"""The seeded generator behind the demo: invented prices of an invented market."""
