"""Jobs on market data."""

from procrastinate.contrib.django import app

from config.push import notify_market
from market.models import Underlying
from market.timelines import fold_in


@app.task(queue="runs", name="market.fold")
def fold(symbol: str) -> None:
    """Make sealed sessions part of the history that backtests read."""
    fold_in(Underlying.objects.get(symbol=symbol))
    notify_market(symbol, "history")
