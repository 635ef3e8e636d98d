"""Jobs on market data."""

from procrastinate.contrib.django import app

from market import refresh
from market.models import Underlying


@app.task(queue="runs", name="market.fold")
def fold(symbol: str) -> None:
    """Make the chains that are current the history that backtests read."""
    refresh.refresh(Underlying.objects.get(symbol=symbol))
