"""Jobs of files on their way in. Their names are those that queued jobs are stored under."""

from procrastinate.contrib.django import app

from intake import jobs


@app.task(queue="runs", name="market.take_in")
def take_in(intake_id: int) -> None:
    """Read a file and store its sessions."""
    jobs.carry_out(intake_id)


@app.periodic(cron="* * * * * */10")
@app.task(queue="runs", name="market.recover", queueing_lock="recover-intakes")
def recover(timestamp: int) -> None:
    jobs.recover()
