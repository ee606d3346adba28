"""A process in which the window's service is loaded once, and from which each window of the tests gets its own by a fork.

A window starts its service as a new process, which loads for two seconds; here that is done once for all tests of a run.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path


class Split:
    """A process that was split off, with what is used of ``subprocess.Popen``."""

    def __init__(self, pid: int) -> None:
        self.pid = pid

    def terminate(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGTERM)

    def kill(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)

    def wait(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        while Path(f"/proc/{self.pid}").exists():
            if time.monotonic() > end:
                raise subprocess.TimeoutExpired("service", seconds)
            time.sleep(0.002)


class Loaded:
    def __init__(self) -> None:
        self._link, theirs = socket.socketpair()
        with theirs:
            self._process = subprocess.Popen([sys.executable, "-m", __name__, str(theirs.fileno())], pass_fds=[theirs.fileno()])
        self._link.recv(1)

    def split(self, connection: int) -> Split:
        """A service that speaks through ``connection``, with this process's environment as it is now."""
        socket.send_fds(self._link, [json.dumps(dict(os.environ)).encode()], [connection])
        return Split(int(self._link.recv(20)))

    def close(self) -> None:
        self._link.close()
        self._process.kill()
        self._process.wait()


def main() -> None:
    from adzer.core.run import service, warm

    warm.run()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # who ended leaves nothing behind
    with socket.socket(fileno=int(sys.argv[1])) as link:
        link.send(b".")
        while True:
            environment, held, _, _ = socket.recv_fds(link, 100_000, 1)
            if not held:
                return
            if (pid := os.fork()) == 0:
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                link.close()
                os.environ.clear()
                os.environ.update(json.loads(environment))
                sys.argv[1:] = [str(held[0])]
                service.main()
                os._exit(0)
            os.close(held[0])
            link.send(str(pid).encode())


if __name__ == "__main__":
    main()
