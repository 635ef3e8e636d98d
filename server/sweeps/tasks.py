"""Jobs of the queue."""

from procrastinate.contrib.django import app

from sweeps import services, work


@app.task(queue="runs", name="sweeps.execute")
def execute(part_id: int) -> None:
    work.carry_out(part_id)


@app.periodic(cron="* * * * * */10")
@app.task(queue="runs", name="sweeps.recover", queueing_lock="recover-sweeps")
def recover(timestamp: int) -> None:
    work.recover()


@app.periodic(cron="27 * * * *")
@app.task(queue="runs", name="sweeps.forget", queueing_lock="forget-sweeps")
def forget(timestamp: int) -> None:
    services.forget()
