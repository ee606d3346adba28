"""The window's side of the work: the service process, and the queue's process. Both speak through Qt signals."""

from __future__ import annotations

import contextlib
import itertools
import json
import socket
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QProcess, QThread, Signal

from ..core.media.probe import FileFacts
from ..core.run.service import Chore, Picturing, Reply, in_turn

MOST_ENDS = 2  # times that the process may end at the same request


def start(connection: int) -> subprocess.Popen[bytes]:
    """A service process that answers through a connected socket."""
    command = [sys.executable, "-c", "from adzer.core.run.service import main; main()", str(connection)]
    return subprocess.Popen(command, pass_fds=[connection])


class _Listener(QThread):
    arrived = Signal(object)

    def __init__(self, link: Connection) -> None:
        super().__init__()
        self._link = link

    def run(self) -> None:
        with contextlib.suppress(EOFError, OSError):
            while True:
                self.arrived.emit(self._link.recv())


@dataclass
class _Open:
    """A request that waits for its answer: how often the process ended while it did, and what a chore is answered to."""

    request: Picturing | Chore
    then: Callable[[Any, str | None], None] | None = None
    ends: int = 0

    def given_up(self) -> str:
        """What is said of a request that the process has twice not outlived."""
        held = (self.request.facts,) if isinstance(self.request, Picturing) else self.request.args
        of = next((f" of {Path(each.path).name}" for each in held if isinstance(each, FileFacts)), "")
        return (
            f"The process that reads the footage ended twice while this{of} was made, so that it is left out. Check that the "
            "file plays elsewhere, or copy it from the card again; nothing is lost."
        )


class Worker(QObject):
    """Asks the service process. A picture's newest request wins; chores answer through a callback, once.

    Should the process end (a file that a decoder does not survive), another is started and asked again for what was
    waited for; what it ends at twice is given up with a sentence.
    """

    pictured = Signal(object)
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._numbers = itertools.count(1)
        self._open: dict[str, _Open] = {}
        self._closed = False
        self.answering = False  # is a reply being taken, and no person at work?
        self._begin()

    def _begin(self) -> None:
        mine, theirs = socket.socketpair()
        with theirs:
            self._process = start(theirs.fileno())
        self._link = Connection(mine.detach())
        self._listener = _Listener(self._link)
        self._listener.arrived.connect(self._arrived)
        self._listener.finished.connect(self._ended)
        self._listener.start()

    def picture(self, key: str, **ask: Any) -> None:
        """Asks for a picture; ``pictured`` brings it unless a newer one of the same key was asked for."""
        self._ask(_Open(Picturing(key=key, generation=next(self._numbers), **ask)))

    def chore(self, what: str, args: tuple[object, ...], then: Callable[[Any, str | None], None]) -> None:
        """Asks for a chore; ``then(value, error)`` is called on the UI thread."""
        self._ask(_Open(Chore(f"{what}-{next(self._numbers)}", what, args), then))

    @property
    def busy(self) -> int:
        """Chores under way."""
        return sum(waiting.then is not None for waiting in self._open.values())

    def _ask(self, waiting: _Open) -> None:
        self._open[waiting.request.key] = waiting
        with contextlib.suppress(OSError):  # it has ended, which is about to be told: what is open is then asked again
            self._link.send(waiting.request)

    def _arrived(self, reply: Reply) -> None:
        waiting = self._open.get(reply.key)
        if self._closed or waiting is None or getattr(waiting.request, "generation", 0) != reply.generation:
            return
        del self._open[reply.key]
        if waiting.then is not None:
            self.answering = True
            try:
                waiting.then(reply.value, reply.error)
            finally:
                self.answering = False
        else:
            self.pictured.emit(reply)

    def _ended(self) -> None:
        """The process has ended by itself: at the first of one of its two lines."""
        if self._closed:
            return
        self._hang_up()
        for line in (True, False):
            for waiting in [w for w in self._open.values() if in_turn(w.request) == line][:1]:
                waiting.ends += 1
        again = [w for w in self._open.values() if w.ends < MOST_ENDS]
        lost = [w for w in self._open.values() if w.ends >= MOST_ENDS]
        self._open.clear()
        self._begin()
        for waiting in again:
            self._ask(waiting)
        if not lost:
            self.failed.emit("The process that reads the footage had ended, and was started again. Nothing is lost.")
        for waiting in lost:
            if waiting.then is not None:
                waiting.then(None, waiting.given_up())
            else:
                self.pictured.emit(Reply(waiting.request.key, error=waiting.given_up()))

    def _hang_up(self) -> None:
        self._process.terminate()  # the listener then meets the end of the line
        self._process.wait(5)
        self._listener.wait(2000)
        self._link.close()

    def close(self) -> None:
        self._closed = True
        self._open.clear()
        self._hang_up()


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
