"""Two workers that share nothing but the database: each in a network namespace and with a state folder of its own, as on two
machines. A sweep of 2 000 variants by one worker, by two, and by two of which one is killed halfway: all three must come to the
same. Needs root (namespaces are made with `ip`) and ./strell demo to have run once."""

from __future__ import annotations

import asyncio
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

from bench.timing import table

PROJECT = Path(__file__).resolve().parents[1]
SESSIONS = 30
DIALS = [
    (["leave/0/percent"], "21 to 70 by 1"),
    (["entries/0/legs/0/strike/delta", "entries/0/legs/1/strike/delta"], "0.05 to 0.44 by 0.01"),
]


class Machine:
    """A network namespace with one wire to this one, and a state folder."""

    def __init__(self, number: int, port: int) -> None:
        self.name, self.port = f"strell-bench-{number}", port
        self.here, self.there = f"10.231.{number}.1", f"10.231.{number}.2"
        self.state = Path(tempfile.mkdtemp(prefix=f"{self.name}-"))
        self.worker: subprocess.Popen[bytes] | None = None
        wire = f"strell{number}"
        for words in (
            f"netns add {self.name}", f"link add {wire} type veth peer name {wire}p", f"link set {wire}p netns {self.name}",
            f"addr add {self.here}/30 dev {wire}", f"link set {wire} up",
            f"-n {self.name} addr add {self.there}/30 dev {wire}p", f"-n {self.name} link set {wire}p up", f"-n {self.name} link set lo up",
        ):  # fmt: skip
            subprocess.run(["ip", *words.split()], check=True)

    def start(self) -> None:
        own = {
            "STRELL_DB_HOST": self.here, "STRELL_DB_PORT": str(self.port), "STRELL_STATE": str(self.state),
            "NUMBA_CACHE_DIR": str(self.state / "numba"),
        }  # fmt: skip
        self.worker = subprocess.Popen(
            ["ip", "netns", "exec", self.name, sys.executable, "server/manage.py", "work"], cwd=PROJECT,
            env={**os.environ, **own}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip

    def stop(self, how: int = signal.SIGTERM) -> None:
        if self.worker is not None and self.worker.poll() is None:
            os.killpg(self.worker.pid, how)
            self.worker.wait(30)

    def gone(self) -> None:
        self.stop(signal.SIGKILL)
        subprocess.run(["ip", "netns", "del", self.name], check=False)
        shutil.rmtree(self.state, ignore_errors=True)


def _wired(addresses: list[str], port: int) -> None:
    """Carry what comes over the wires to the database, which listens on loopback only."""

    async def carried(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        there, back = await asyncio.open_connection("127.0.0.1", port)

        async def pump(source: asyncio.StreamReader, sink: asyncio.StreamWriter) -> None:
            try:
                while data := await source.read(1 << 16):
                    sink.write(data)
                    await sink.drain()
            except ConnectionError:
                pass
            finally:
                sink.close()

        await asyncio.gather(pump(reader, back), pump(there, writer))

    async def serve() -> None:
        for address in addresses:
            await asyncio.start_server(carried, address, port)
        await asyncio.Event().wait()

    threading.Thread(target=lambda: asyncio.run(serve()), daemon=True).start()


def run() -> None:
    import django

    django.setup()
    from django.contrib.auth.models import User

    from market.timelines import timeline
    from strategies import services as strategies
    from sweeps import services as sweeps
    from sweeps.models import Sweep

    user = User.objects.filter(username="demo").first()
    if user is None or os.geteuid() != 0 or shutil.which("ip") is None:
        print("\n(two workers: needs root, `ip` and the demo's data)")
        return
    original = user.strategies.filter(deleted_at=None).order_by("pk").first()
    strategy = strategies.duplicate(user, original.pk, False)
    dates = timeline(strategy.underlying.symbol).dates
    port = int(os.environ["STRELL_DB_PORT"])
    machines = [Machine(number, port) for number in (1, 2)]
    _wired([machine.here for machine in machines], port)

    def asked() -> Any:
        return sweeps.ask(user, strategy.pk, dates[0], dates[SESSIONS - 1], Decimal(50_000), DIALS)

    def done(sweep: Any) -> int:
        return int(sweep.cells.exclude(done_at=None).count())

    def finished(sweep: Any, most: float = 1200) -> None:
        until = time.monotonic() + most
        while Sweep.objects.get(pk=sweep.pk).status == Sweep.Status.RUNNING:
            if time.monotonic() > until:
                raise TimeoutError(f"{done(sweep)} of {sweep.cells.count()} after {most} s")
            time.sleep(0.2)

    def came_to(sweep: Any) -> list[Any]:
        return list(sweep.cells.order_by("place").values_list("at", "figures", "daily", "problem"))

    def seconds(sweep: Any) -> float:
        """From the first variant to the last: how long workers need to start is not theirs."""
        stamps = sorted(sweep.cells.values_list("done_at", flat=True))
        return float((stamps[-1] - stamps[0]).total_seconds())

    rows = []
    try:
        for machine in machines:
            machine.start()
        warm = asked()
        finished(warm)  # both have their cubes and kernels
        machines[1].stop()
        alone = asked()
        finished(alone)
        rows.append(("one worker", f"{seconds(alone):.1f}", f"{alone.cells.count() / seconds(alone):.0f}", "", ""))
        machines[1].start()
        time.sleep(20)
        together = asked()
        finished(together)
        shares = Counter(together.cells.values_list("done_by", flat=True))
        rows.append((
            "two workers", f"{seconds(together):.1f}", f"{together.cells.count() / seconds(together):.0f}",
            " + ".join(str(n) for n in shares.values()), f"{seconds(alone) / seconds(together):.2f}",
        ))  # fmt: skip
        killed = asked()
        while done(killed) < killed.cells.count() // 2:
            time.sleep(0.05)
        machines[0].stop(signal.SIGKILL)
        finished(killed)
        shares = Counter(killed.cells.values_list("done_by", flat=True))
        again = killed.parts.filter(attempts__gt=1).count()
        rows.append(
            ("two, one killed halfway", f"{seconds(killed):.1f}", "", " + ".join(str(n) for n in shares.values()), "")
        )
        assert came_to(alone) == came_to(together) == came_to(killed), "the workers disagree"
        assert len(shares) == 2, shares
        table("Sweep of 2 000 variants over thirty sessions by workers on machines of their own", ("by", "seconds", "variants a second", "shares", "faster"), rows)  # fmt: skip
        print(
            f"\nAll three came to the same, bit by bit. After the kill {again} parts of {killed.parts.count()} were taken up by the other."
        )
    finally:
        for machine in machines:
            machine.gone()
        Sweep.objects.filter(strategy=strategy).delete()
        strategy.delete()
