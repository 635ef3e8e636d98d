"""Black-76 on implied forwards: prices, Greeks, implied volatility, payoff."""
