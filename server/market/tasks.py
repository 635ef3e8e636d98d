"""Jobs on market data."""

from procrastinate.contrib.django import app

from market import refresh
from market.models import Underlying


@app.task(queue="runs", name="market.fold")
def fold(symbol: str) -> None:
    """Make the chains that are current the history that backtests read; of what was removed meanwhile, nothing."""
    row = Underlying.objects.filter(symbol=symbol).first()
    if row is not None:
        refresh.refresh(row)
