"""One of Strell's processes, started again whenever it ends, as its keeper does: some end themselves on purpose."""

import signal
import subprocess
import sys
import time

if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    while True:
        process = subprocess.Popen(
            ["setpriv", "--pdeathsig", "KILL", sys.executable, "server/manage.py", *sys.argv[1:]]
        )
        try:
            process.wait()
        finally:
            process.kill()
            process.wait()
        time.sleep(0.5)
