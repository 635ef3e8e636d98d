"""Jobs of the queue."""

from procrastinate.contrib.django import app

from runs import services, work


@app.task(queue="runs", name="runs.execute")
def execute(run_id: int) -> None:
    work.carry_out(run_id)


@app.periodic(cron="* * * * * */10")
@app.task(queue="runs", name="runs.recover", queueing_lock="recover")
def recover(timestamp: int) -> None:
    services.recover()


@app.periodic(cron="17 * * * *")
@app.task(queue="runs", name="runs.forget", queueing_lock="forget")
def forget(timestamp: int) -> None:
    services.forget()
