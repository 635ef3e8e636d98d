"""Numbers read from the market that a rule may use, each declared once."""
