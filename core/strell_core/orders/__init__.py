"""Orders at a market: their terms, how paper matches them, what protects a position, what is refused."""
