"""Running an iterator ahead in its own thread, so that decoding, pixel work and encoding overlap."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterable, Iterator
from typing import TypeVar, cast

T = TypeVar("T")
_END = object()


def ahead(source: Iterable[T], depth: int = 2) -> Iterator[T]:
    """Yields what ``source`` yields, at most ``depth`` items computed in advance. Errors come out where they are met.

    When the consumer stops early, the thread is told so and the source is closed.
    """
    line: queue.Queue[object] = queue.Queue(maxsize=depth)
    stop = threading.Event()

    def offer(item: object) -> bool:
        while not stop.is_set():
            try:
                line.put(item, timeout=0.1)
                return True
            except queue.Full:
                continue
        return False

    def work() -> None:
        iterator = iter(source)
        try:
            for item in iterator:
                if not offer((item,)):
                    return
            offer(_END)
        except BaseException as error:  # noqa: BLE001 - handed over, raised by the consumer
            offer(error)
        finally:
            close = getattr(iterator, "close", None)
            if close:
                close()

    thread = threading.Thread(target=work, daemon=True, name="ahead")
    thread.start()
    try:
        while True:
            item = line.get()
            if item is _END:
                return
            if isinstance(item, BaseException):
                raise item
            yield cast(tuple[T], item)[0]
    finally:
        stop.set()
        while not line.empty():
            line.get_nowait()
        thread.join()
