"""Jobs on market data."""

from procrastinate.contrib.django import app

from market import intake_jobs, refresh
from market.models import Underlying


@app.task(queue="runs", name="market.fold")
def fold(symbol: str) -> None:
    """Make the chains that are current the history that backtests read."""
    refresh.refresh(Underlying.objects.get(symbol=symbol))


@app.task(queue="runs", name="market.take_in")
def take_in(intake_id: int) -> None:
    """Read a file and store its sessions."""
    intake_jobs.carry_out(intake_id)


@app.periodic(cron="* * * * * */10")
@app.task(queue="runs", name="market.recover", queueing_lock="recover-intakes")
def recover(timestamp: int) -> None:
    intake_jobs.recover()
