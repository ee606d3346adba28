"""Works through a job's queued renders. ``python -m adzer.core.run.queue JOB`` does it in a process of its own, for the desk.

Progress goes to the job file (whoever looks sees it) and, as one JSON object a line, to standard output.
"""

from __future__ import annotations

import contextlib
import json
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from .. import records
from ..errors import AdzerError, Cancelled, DamagedError, shown
from ..intake import proxies
from ..job import LEASE, Job, Slip
from ..ledger import EditConflict
from ..read import check
from .render import Progress, render

SAVE_EVERY = 0.5
ASKED = (
    "{}: {} of the renders that wait were not queued by you on this machine. They would write into {}. If you know who queued them, "
    "allow the job to render (adzer trust, or “trust this job” among the commands)."
)

Tell = Callable[[Slip, Progress], None]


def run(job: Job, tell: Tell = lambda *_: None, threads: int = 2, only: set[int] | None = None) -> list[int]:
    """Renders waiting queued renders in order until none is left; returns the numbers of those that failed.

    Queued renders that were frozen elsewhere are not run: AdzerError asks for trust when nothing else waits. A queued render whose state is set to
    ``cancelled`` by anyone stops at its next frame and keeps its segments.
    """
    failed = []
    while (slip := job.claim(only)) is not None:
        with _held(job, slip):
            if not _render(job, slip, tell, threads):
                failed.append(slip.id)
    if only is None and (strange := job.untrusted()):
        raise AdzerError(ASKED.format(job.path, len(strange), ", ".join(sorted({str(Path(s.order.out).parent) for s in strange}))))
    return failed


@contextlib.contextmanager
def _held(job: Job, slip: Slip) -> Iterator[None]:
    """Renews the lease of a queued render while it is worked on, whatever takes how long."""
    over = threading.Event()

    def renew() -> None:
        while not over.wait(LEASE / 4):
            with contextlib.suppress(AdzerError):
                job.renew(slip.id)

    worker = threading.Thread(target=renew, daemon=True, name="lease")
    worker.start()
    try:
        yield
    finally:
        over.set()
        worker.join()


def _render(job: Job, slip: Slip, tell: Tell, threads: int) -> bool:
    order = slip.order
    looked, saved, stop = 0.0, 0.0, False
    began = time.monotonic()

    def cancelled() -> bool:
        nonlocal looked, stop
        if time.monotonic() - looked > 0.25:
            looked = time.monotonic()
            stop = job.slip_state(slip.id) == "cancelled"
        return stop

    def report(progress: Progress) -> None:
        nonlocal saved
        if time.monotonic() - saved > SAVE_EVERY or progress.doing != "rendering":
            saved = time.monotonic()
            job.set_slip(slip.id, done=progress.done, total=progress.total, progress=records.to_plain(progress))
            tell(slip, progress)

    try:
        checked = render(order, report, cancelled, threads)
    except Cancelled as note:
        job.set_slip(slip.id, state="cancelled", why=str(note), pid=None)
        job.log("cancel", order.shot, str(note), {})
        return True
    except DamagedError as error:
        job.keep_measured(error.fingerprint, check.DAMAGE, records.to_json(error.spans).encode())
        job.set_slip(slip.id, state="failed", why=str(error), pid=None)
        job.log("failed", order.shot, str(error), {"out": order.out})
        return False
    except Exception as error:  # whatever it is, it is this queued render's, and the next one's turn
        why = str(error) if isinstance(error, AdzerError) else f"{shown(order.out)} could not be rendered ({type(error).__name__}: {error})."
        job.set_slip(slip.id, state="failed", why=why, pid=None)
        job.log("failed", order.shot, why, {"out": order.out})
        return False
    plain = records.to_plain(checked)
    job.set_slip(slip.id, state="done", done=checked.frames, total=checked.frames, report=plain, pid=None)
    if order.copy_scale is not None:
        with contextlib.suppress(EditConflict):
            proxies.attach(job, slip)
    took = time.monotonic() - began
    job.log(
        "render", order.shot, f"{order.card.title} → {Path(order.out).name}: {checked.frames} frames, checked",
        {
            "folder": job.where(order.out),
            "seconds": round(took, 2),
            "bytes": checked.size,
            "xxh128": checked.checksum,
            "raster": list(checked.raster),
        },
    )  # fmt: skip
    return True


def main() -> None:
    def tell(slip: Slip, progress: Progress) -> None:
        print(json.dumps({"slip": slip.id, **records.to_plain(progress)}), flush=True)

    try:
        with Job.open(Path(sys.argv[1])) as job:
            run(job, tell)
    except AdzerError as error:
        print(json.dumps({"error": str(error)}), flush=True)
        sys.exit(1)


if __name__ == "__main__":
    main()
