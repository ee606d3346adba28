"""The window's side of the work: the service process, and the queue's process. Both speak through Qt signals."""

from __future__ import annotations

import contextlib
import itertools
import json
import socket
import subprocess
import sys
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QProcess, QThread, Signal

from ..core.run.service import Chore, Picturing, Reply


class _Listener(QThread):
    arrived = Signal(object)

    def __init__(self, link: Connection) -> None:
        super().__init__()
        self._link = link

    def run(self) -> None:
        with contextlib.suppress(EOFError, OSError):
            while True:
                self.arrived.emit(self._link.recv())


class Worker(QObject):
    """Asks the service process. A picture's newest request wins; chores answer through a callback, once."""

    pictured = Signal(object)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        mine, theirs = socket.socketpair()
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-c", "from adzer.core.run.service import main; main()", str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
            )
        self._link = Connection(mine.detach())
        self._numbers = itertools.count(1)
        self._newest: dict[str, int] = {}
        self._waiting: dict[str, Callable[[object, str | None], None]] = {}
        self._listener = _Listener(self._link)
        self._listener.arrived.connect(self._arrived)
        self._listener.start()

    def picture(self, key: str, **ask: Any) -> None:
        """Asks for a picture; ``pictured`` brings it unless a newer one of the same key was asked for."""
        generation = self._newest[key] = next(self._numbers)
        self._send(Picturing(key=key, generation=generation, **ask))

    def chore(self, what: str, args: tuple[object, ...], then: Callable[[Any, str | None], None]) -> None:
        """Asks for a chore; ``then(value, error)`` is called on the UI thread."""
        key = f"{what}-{next(self._numbers)}"
        self._waiting[key] = then
        self._send(Chore(key, what, args))

    @property
    def busy(self) -> int:
        """Chores under way."""
        return len(self._waiting)

    def _send(self, request: Picturing | Chore) -> None:
        try:
            self._link.send(request)
        except OSError:
            self.failed.emit("The picture process has ended. Close and open the job again; nothing is lost.")

    def _arrived(self, reply: Reply) -> None:
        if reply.key in self._waiting:
            self._waiting.pop(reply.key)(reply.value, reply.error)
        elif reply.generation == self._newest.get(reply.key):
            self.pictured.emit(reply)

    def close(self) -> None:
        self._waiting.clear()
        self._newest.clear()
        self._process.terminate()  # the listener then meets the end of the line
        self._process.wait(5)
        self._listener.wait(2000)
        self._link.close()


class QueueRunner(QObject):
    """Runs the queue in a process of its own. ``moved`` after each word from it; ``ended`` when it has nothing left."""

    moved = Signal(dict)
    ended = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None

    @property
    def running(self) -> bool:
        return self._process is not None

    def start(self, job: Path) -> None:
        """Starts it if it does not run yet."""
        if self._process is not None:
            return
        process = self._process = QProcess(self)
        process.setProcessChannelMode(QProcess.ProcessChannelMode.SeparateChannels)
        process.readyReadStandardOutput.connect(self._read)
        process.finished.connect(self._finished)
        process.start(sys.executable, ["-m", "adzer.core.run.queue", str(job)])

    def _read(self) -> None:
        if self._process is None:
            return
        for line in bytes(self._process.readAllStandardOutput().data()).splitlines():
            with contextlib.suppress(ValueError):
                self.moved.emit(json.loads(line))

    def _finished(self) -> None:
        self._process = None
        self.ended.emit()

    def leave(self, job: Path) -> None:
        """Ends the process and starts one that outlives the window; it goes on from the last finished segment."""
        self.stop()
        QProcess.startDetached(sys.executable, ["-m", "adzer.core.run.queue", str(job)])

    def stop(self) -> None:
        """Ends the process for good, which is not told as its end: the desk would start it again for what still waits.
        Finished segments stay, and the next start goes on from them."""
        process, self._process = self._process, None
        if process is not None:
            process.readyReadStandardOutput.disconnect(self._read)
            process.finished.disconnect(self._finished)
            process.kill()
            process.waitForFinished(3000)
