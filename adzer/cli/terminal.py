"""What all commands share: the two applications, progress on standard error, results on standard output."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, TypeVar

import typer

from ..core import records
from ..core.errors import AdzerError

if TYPE_CHECKING:
    from ..core.compile import Order
    from ..core.intake.offload import Moving
    from ..core.job import Job, Shot, Slip
    from ..core.run import render

app = typer.Typer(
    help="Adzer turns rough footage into masters: desqueeze, frame, colour and deliver, measured and checked.",
    pretty_exceptions_enable=False, rich_markup_mode=None, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]},
)  # fmt: skip
sim_app = typer.Typer(
    help="The simulated world: footage with known answers.", no_args_is_help=True, rich_markup_mode=None
)
app.add_typer(sim_app, name="sim")

T = TypeVar("T")
Json = Annotated[bool, typer.Option("--json", help="Print JSON on standard output.")]
JobFile = Annotated[Path, typer.Argument(help="The job's file, NAME.adzer.")]
Recording = Annotated[Path, typer.Argument(help="The recording.")]
Recordings = Annotated[list[Path], typer.Argument(help="The recordings.")]
ShotName = Annotated[str, typer.Argument(help="The shot, by name or number.")]
OnlyShots = Annotated[list[str] | None, typer.Option("--shot", help="Only this shot, by name or number; all if left out. May come again.")]


quiet = False  # notes and progress are left out; warnings, faults and results are not


def say(text: str) -> None:
    print(f"adzer: {text}", file=sys.stderr)


def mention(text: str) -> None:
    """What need not be known: left out when it should be quiet."""
    if not quiet:
        say(text)


JSON_VERSION = 2


def print_json(value: object, name: str = "") -> None:
    """A command's answer as one object with its version; docs/json.md describes each. ``name``: what a list holds."""
    plain = records.to_plain(value)
    held = {name: plain} if name else plain
    print(json.dumps({"version": JSON_VERSION, **{k: v for k, v in held.items() if k != "version"}}, indent=1, ensure_ascii=False))


def parse_size(text: str) -> tuple[int, int]:
    """A frame size from ``1920x1080``; AdzerError if it is none."""
    parts = text.lower().replace("×", "x").split("x")
    if len(parts) != 2 or not all(p.isdigit() and 16 <= int(p) <= 16384 for p in parts):
        raise AdzerError(f"--size {text}: write it as WIDTHxHEIGHT, 16 to 16384 a side.")
    return int(parts[0]), int(parts[1])


@contextmanager
def progress(words: str) -> Iterator[Callable[[render.Progress], None]]:
    """A line on standard error that follows the work; quiet where that is not a terminal."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    console = Console(stderr=True, quiet=quiet)
    columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.completed}/{task.total}"),
               TextColumn("{task.fields[rate]}"), TimeRemainingColumn())  # fmt: skip
    with Progress(*columns, console=console, transient=True) as bar:
        task = bar.add_task(words, total=None, rate="")

        def show(p: render.Progress) -> None:
            bar.update(
                task, description=f"{words}: {p.doing}", completed=p.done, total=p.total, rate=f"{p.rate:.1f} frames/s"
            )

        yield show


@contextmanager
def moving(words: str) -> Iterator[Callable[[Moving], None]]:
    """A line on standard error that follows an offload; quiet where that is not a terminal."""
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        DownloadColumn(),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(words, total=None)
        yield lambda m: bar.update(task, description=f"{words}: {m.doing}", completed=m.done, total=m.total)


def made_if_absent(path: Path, rate: Fraction = Fraction(25)) -> None:
    """Makes the job if nothing is there; another process may do so at the same moment."""
    from ..core.job import Job

    if path.exists() or path.suffix != ".adzer":
        return
    if not path.absolute().parent.is_dir():
        raise AdzerError(f"{path.parent} is not there, so no job can be made in it. Make the folder first, or give another name.")
    try:
        Job.create(path, path.stem, rate).close()
    except AdzerError:
        if not path.exists():
            raise
        return
    mention(f"{path} is new.")


def rendered(job: Job, asked: Iterable[tuple[int, Order]], words: str) -> list[Slip]:
    """Queues orders (each with its shot's number), renders them, and returns what became of each. Where an earlier start of this very command
    has queued them, they are not queued again. Whatever ends the command, none is left waiting, where it would hold its master's name."""
    from ..core.run import queue

    slips = set(_earlier())
    again = bool(slips)
    made = {s.order.digest: s.order.out for s in job.slips() if s.state == "done" and Path(s.order.out).exists()}
    try:
        for shot_id, order in asked:
            if not again:
                if order.digest in made and not order.copy_scale:
                    mention(f"{order.shot} was made like this before, as {made[order.digest]}; it is made once more.")
                slips.add(_queued(job, shot_id, order))
        if notes is not None:
            os.pwrite(notes, json.dumps(sorted(slips)).encode(), 0)
        with progress(words) as show:
            queue.run(job, lambda slip, p: show(p), only=slips)
    finally:
        job.withdraw(slips)
    return [s for s in job.slips() if s.id in slips]


notes: int | None = None
"""A file of this command's own that outlives a start of it which a library ended: the numbers of what it queued."""


def _earlier() -> list[int]:
    held = os.pread(notes, 1_000_000, 0) if notes is not None else b""
    return json.loads(held) if held else []


def _queued(job: Job, shot_id: int, order: Order) -> int:
    """The queued render's number: a new one, or the unfinished one of the very same order, which goes on from its last finished segment."""
    old = job.resumed(shot_id, order)
    if old is None:
        return job.enqueue(shot_id, order)
    mention(f"{old.order.out} was begun before; it goes on from there.")
    return old.id


def shot_named(job: Job, name: str) -> Shot:
    shots = job.shots()
    for shot in shots:
        if name in (shot.name, str(shot.id)):
            return shot
    raise AdzerError(f"{job.path} has no shot {name!r}. It has: {', '.join(s.name for s in shots) or 'none'}.")


def loaded(file: Path, load: Callable[[bytes, str], T]) -> T:
    """What ``load`` makes of a file's bytes and name; AdzerError if it cannot be read."""
    from ..core.media import small

    return load(small.read(file, 16_000_000, "a file of keyframes"), str(file))


def ratio(text: str, what: str) -> Fraction:
    """What an option says as a ratio, other than none. AdzerError names the option."""
    try:
        value = records.parse_fraction(text)
    except ValueError as error:
        raise AdzerError(f"--{what}: {error}.") from None
    if not value:
        raise AdzerError(f"--{what}: zero cannot be used.")
    return value


def numbers(option: str, text: str, how_many: str, names: tuple[str, ...]) -> dict[str, float]:
    """Numbers with commas between, by name; AdzerError if they are not as many."""
    try:
        found = [float(part) for part in text.replace("−", "-").split(",")]
    except ValueError:
        found = []
    if len(found) != len(names):
        raise AdzerError(f'--{option} "{text}": give {how_many}, "{",".join(names)}".')
    return dict(zip(names, found, strict=True))
