"""Getting everything off a card: copied once through memory while it is hashed, read back at every destination, compared.

Nothing is ever overwritten. A copy is written to a part of a name that only this person's Adzer makes, which it holds a lock on; it gets
its name when it is whole and on the disk, is read back under that name, and loses it again if it is not what was on the card. From a part
an interrupted run goes on. One offload writes to a place at a time; another waits. The card's own tree stays as it is below
``{year}/{month}/{job}/{camera}``; beside it lie the manifest (as ``xxhsum -c`` takes it) and a report.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import queue
import re
import shutil
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

import xxhash

from ..errors import AdzerError, Cancelled, UnreadableError, shown
from ..media import disk
from .card import Item, Oddity, Survey, survey
from .copies import Part, locked
from .manifest import MANIFEST, Manifest, manifest_name

TEMPLATE = "{year}/{month}/{job}/{camera}"
BLOCK = 8 << 20
SPARE = 64 << 20  # left free on a destination
_FIELDS = {"year", "month", "day", "job", "camera", "card"}


@dataclass
class Control:
    """How others pause and stop a run. ``check`` waits while paused; Cancelled if it is to stop."""

    going: threading.Event = field(default_factory=threading.Event)
    stopped: bool = False

    def __post_init__(self) -> None:
        self.going.set()

    def pause(self) -> None:
        self.going.clear()

    def go_on(self) -> None:
        self.going.set()

    def stop(self) -> None:
        self.stopped = True
        self.going.set()

    def check(self) -> None:
        self.going.wait()
        if self.stopped:
            raise Cancelled("Stopped. What is copied is kept; start the same again to go on.")


@dataclass(frozen=True)
class Moving:
    """How far a run is: bytes count twice for each destination, once written and once read back."""

    doing: str
    file: str
    files: int
    of_files: int
    done: int
    total: int
    rate: float = 0.0
    left: float = 0.0


@dataclass
class Outcome:
    """What became of a card. ``copied``, ``there``: places verified at every destination; the others say why not."""

    card: Path
    roots: tuple[Path, ...]
    copied: list[str] = field(default_factory=list)
    there: list[str] = field(default_factory=list)
    differing: dict[str, str] = field(default_factory=dict)
    failed: dict[str, str] = field(default_factory=dict)
    oddities: tuple[Oddity, ...] = ()
    size: int = 0
    seconds: float = 0.0
    changed_meanwhile: bool = False
    expected: int = 0
    manifest: str = MANIFEST  # another name where the card has a file of that one

    @property
    def safe(self) -> bool:
        """May the card be erased? Only when every file on it was read back and found the same at every destination."""
        verified = len(self.copied) + len(self.there)
        blocked = any(o.blocks for o in self.oddities)
        return not (self.differing or self.failed or blocked or self.changed_meanwhile) and verified == self.expected

    @property
    def words(self) -> str:
        """The verdict as sentences."""
        n = len(self.copied) + len(self.there)
        where = " and ".join(shown(str(r)) for r in self.roots)
        if self.safe:
            return (
                f"{shown(str(self.card))} is safe to erase: all {n} files were read back at {where} and are the same, "
                "byte for byte."
            )
        why = []
        if self.differing:
            why.append(f"{len(self.differing)} differ from a file that is there already")
        if self.failed:
            why.append(f"{len(self.failed)} could not be copied")
        blocked = sum(o.blocks for o in self.oddities)
        if blocked:
            why.append(f"{blocked} {'is' if blocked == 1 else 'are'} not a plain file or cannot be read")
        if self.changed_meanwhile:
            why.append("the card has changed meanwhile")
        missing = self.expected - n - len(self.differing) - len(self.failed)
        if missing > 0:
            why.append(f"{missing} are not copied yet")
        return f"{shown(str(self.card))} is NOT safe to erase: {'; '.join(why)}. {n} files are verified."


def cautions(card: Path, bases: Sequence[Path]) -> list[str]:
    """Places that are no second copy: on the card's own disk, or two on one disk."""
    held = {base: disk for base in bases if (disk := _disk(base)) is not None}
    if not card.is_dir():
        return []  # which is said otherwise
    own = _disk(card)
    said = [f"{base} lies on the disk that the card's files are on: if that is lost, so is the copy." for base, disk in held.items() if disk == own]
    others = [base for base, disk in held.items() if disk != own]
    for n, base in enumerate(others):
        if (first := next((b for b in others[:n] if held[b] == held[base]), None)) is not None:
            said.append(f"{first} and {base} lie on one disk: if that fails, both copies are gone.")
    return said


def _disk(path: Path) -> int | None:
    there = next((p for p in (path.absolute(), *path.absolute().parents) if p.exists()), None)
    return None if there is None else there.stat().st_dev


def destination(base: Path, template: str, found: Survey, job: str, camera: str, when: datetime | None = None) -> Path:
    """The folder for a card below ``base``. AdzerError if the template has a field that there is not."""
    unknown = set(re.findall(r"{([^{}]*)}", template)) - _FIELDS
    if unknown or re.search(r"[{}]", re.sub(r"{[^{}]*}", "", template)):
        raise AdzerError(
            f"The folder pattern {template!r} may use {', '.join('{' + f + '}' for f in sorted(_FIELDS))} and no others."
        )
    first = when or _first_day(found)
    held = {
        "year": f"{first:%Y}", "month": f"{first:%m}", "day": f"{first:%d}", "job": _plain(job), "camera": _plain(camera),
        "card": _plain(found.card.name),
    }  # fmt: skip
    place = re.sub(r"{([^{}]*)}", lambda field: held[field[1]], template).strip("/")
    if ".." in place.split("/"):
        raise AdzerError(f"The folder pattern {template!r} leads out of {base}. Write it without '..'.")
    if "\0" in place or any(len(os.fsencode(part)) > 255 for part in place.split("/")):
        raise AdzerError(f"The folder pattern {template[:60]!r} makes a folder's name that no disk can hold. Shorten it.")
    return base / place


def _first_day(found: Survey) -> datetime:
    """When the oldest file that has a believable date was changed; now if there is none."""
    now = time.time()
    days = (i.changed_ns / 1e9 for i in found.items)
    return datetime.fromtimestamp(min((d for d in days if 946_684_800 < d < now + 366 * 86400), default=now))


def _plain(name: str) -> str:
    """A name that can be a folder everywhere."""
    return re.sub(r'[\x00-\x1f\\/:*?"<>|]+', "-", name).strip(" .") or "unnamed"


def check_room(found: Survey, roots: Iterable[Path]) -> None:
    """AdzerError if a destination has not enough space for what is not there yet."""
    needed: dict[int, tuple[int, Path]] = {}
    for root in roots:
        missing = 0
        for item in found.items:
            try:
                missing += item.size if (root / item.place).stat().st_size != item.size else 0
            except OSError:
                missing += item.size
        base = root
        while not base.exists():
            base = base.parent
        if not os.access(base, os.W_OK):
            raise AdzerError(f"{shown(str(base))} cannot be written to. Choose another disk, or unlock it; nothing was copied.")
        device = base.stat().st_dev
        needed[device] = (needed.get(device, (0, base))[0] + missing, base)
    for missing, base in needed.values():
        free = shutil.disk_usage(base).free
        if missing + SPARE > free:
            raise AdzerError(
                f"{shown(str(base))} has {free / 1e6:,.0f} MB free and {missing / 1e6:,.0f} MB are to be copied there. "
                "Free some space or choose another disk; nothing was copied."
            )


@dataclass
class _Job:
    """One file on its way: the roots where it is written anew, and those where a file of that name is compared."""

    item: Item
    fresh: list[Path]
    old: list[Path]
    digest: str = ""
    parts: dict[Path, Part] = field(default_factory=dict)


class _Run:
    def __init__(self, found: Survey, outcome: Outcome, report: Callable[[Moving], None], control: Control) -> None:
        self.found, self.outcome, self.report, self.control = found, outcome, report, control
        self.total = 2 * found.size * len(outcome.roots)
        self.done, self.began, self.said = 0, time.monotonic(), 0.0
        self.lock = threading.Lock()
        self.line: queue.Queue[_Job | None] = queue.Queue(maxsize=2)
        self.fault: BaseException | None = None
        self.manifests = {root: Manifest(root, outcome.manifest) for root in outcome.roots}

    def moved(self, count: int, doing: str, place: str) -> None:
        with self.lock:
            self.done += count
            now = time.monotonic()
            if now - self.said < 0.1:
                return
            self.said = now
            rate = self.done / max(now - self.began, 1e-3)
            files = len(self.outcome.copied) + len(self.outcome.there)
            left = (self.total - self.done) / rate if rate else 0.0
            self.report(Moving(doing, shown(place), files, len(self.found.items), self.done, self.total, rate, left))

    def go(self) -> None:
        checker = threading.Thread(target=self._check_all, daemon=True, name="read back")
        checker.start()
        buffers = memoryview(bytearray(BLOCK))
        try:
            for item in self.found.items:
                self.control.check()
                if self.fault is not None:
                    break
                job = self._plan(item)
                if job is not None and self._copy(job, buffers):
                    self.line.put(job)
        finally:
            self.line.put(None)
            checker.join()
            for manifest in self.manifests.values():
                manifest.close()
        if self.fault is not None:
            raise self.fault

    # --- writing ---------------------------------------------------------------------------------------------------
    def _plan(self, item: Item) -> _Job | None:
        job = _Job(item, [], [])
        for root in self.outcome.roots:
            target = root / item.place
            try:
                held = os.lstat(target)
            except OSError:
                job.fresh.append(root)
                continue
            if not target.is_file() or target.is_symlink():
                self._differs(item, root, "something else of that name is there")
            elif held.st_size != item.size:
                self._differs(item, root, f"there it has {held.st_size} bytes, on the card {item.size}")
            else:
                job.old.append(root)
        return job if job.fresh or job.old else None

    def _differs(self, item: Item, root: Path, why: str) -> None:
        self.outcome.differing[item.place] = (
            f"{shown(str(root / item.place))}: {why}; it was left alone. Offload this card under another camera's name."
        )

    def _copy(self, job: _Job, buffer: memoryview) -> bool:
        """Reads the file once, hashing, and writes it to every fresh destination; False if that failed."""
        item, digest = job.item, xxhash.xxh3_128()
        source = self.found.card / item.place
        parts = []
        try:
            with contextlib.ExitStack() as stack:
                handle = os.open(source, os.O_RDONLY | os.O_NOFOLLOW)
                stack.callback(os.close, handle)
                for root in job.fresh:
                    part = Part(root / item.place)
                    stack.callback(part.close)
                    parts.append(part)
                while True:
                    self.control.check()
                    got = os.readv(handle, [buffer])
                    if not got:
                        break
                    block = buffer[:got]
                    digest.update(block)
                    for part in parts:
                        part.add(block)
                    self.moved(got * (len(job.fresh) + len(job.old)), "copying", item.place)
                if os.fstat(handle).st_size != item.size or os.fstat(handle).st_mtime_ns != item.changed_ns:
                    raise OSError(errno.EIO, "it changed while it was read")
                for part in parts:
                    part.finish(item.size, item.changed_ns)
                stack.pop_all()  # the parts stay open, and locked, until they have been read back
                os.close(handle)
        except OSError as error:
            self._fail(item, parts[0].path if error.errno in (errno.ENOSPC, errno.EDQUOT) and parts else source, error)
            return False
        job.digest, job.parts = digest.hexdigest(), dict(zip(job.fresh, parts, strict=True))
        return True

    def _fail(self, item: Item, where: str | Path, error: OSError) -> None:
        if not self.found.card.is_dir():
            raise UnreadableError(
                f"{shown(str(self.found.card))} is not there any more. Plug it in and start again; what is copied is kept."
            )
        if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS):
            raise AdzerError(
                f"{shown(str(where))} cannot be written ({error.strerror}). Free some space and start again; what is copied is kept."
            )
        self.outcome.failed[item.place] = f"{shown(str(where))}: {error.strerror or error}"

    # --- reading back ----------------------------------------------------------------------------------------------
    def _check_all(self) -> None:
        buffer = memoryview(bytearray(BLOCK))
        while (job := self.line.get()) is not None:
            try:
                if self.fault is None:
                    self._check(job, buffer)
            except BaseException as error:  # noqa: BLE001 - raised again where the run was started
                self.fault = error
            finally:
                for part in job.parts.values():
                    part.close()

    def _check(self, job: _Job, buffer: memoryview) -> None:
        item, good = job.item, True
        for root in job.fresh + job.old:
            target, part = root / item.place, job.parts.get(root)
            try:
                if part is not None and not part.named(target):
                    good = False
                    self._differs(item, root, "a file of that name has come there meanwhile")
                    continue
                found = self._read_back(target, buffer, item.place, part)
                if found == job.digest:
                    self.manifests[root].add(job.digest, item.place)
                    continue
                good = False
                if part is None:
                    self._differs(item, root, "it has the same size and other content")
                    continue
                part.withdraw(target)
                self.outcome.failed[item.place] = (
                    f"{shown(str(target))}: read back, it is not what was on the card. Is the disk sound? Copy it again."
                )
            except OSError as error:
                good = False
                self._fail(item, target, error)
        if good and item.place not in self.outcome.differing and item.place not in self.outcome.failed:
            (self.outcome.copied if job.fresh else self.outcome.there).append(item.place)

    def _read_back(self, path: Path, buffer: memoryview, place: str, part: Part | None) -> str:
        """The hash of what the disk holds under a name, not of what memory remembers; "" if that is not the file that was written."""
        digest = xxhash.xxh3_128()
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            if part is not None and not os.path.samestat(os.fstat(handle), os.fstat(part.handle)):
                return ""
            disk.forget(handle)
            while got := os.readv(handle, [buffer]):
                self.control.check()
                digest.update(buffer[:got])
                self.moved(got, "reading back", place)
        finally:
            os.close(handle)
        return digest.hexdigest()


@contextlib.contextmanager
def _alone(roots: Iterable[Path], waits: Callable[[Path], None]) -> Iterator[None]:
    """Holds the places as the only offload that writes there; ``waits`` is called while another one does. In one order for all, so
    that two with the same places never wait for each other."""
    with contextlib.ExitStack() as stack:
        for root in sorted(roots, key=os.path.realpath):
            root.mkdir(parents=True, exist_ok=True)
            handle = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            stack.callback(os.close, handle)
            while not locked(handle):
                waits(root)
                time.sleep(0.2)
        yield


def offload(
    card: Path, bases: Iterable[Path], job: str, camera: str = "", template: str = TEMPLATE, when: datetime | None = None,
    report: Callable[[Moving], None] = lambda _: None, control: Control | None = None,
) -> Outcome:  # fmt: skip
    """Copies a card below every base folder and verifies it there; see the module's words.

    AdzerError with a sentence if it cannot be begun or gone on with; Cancelled if it was stopped. Both leave everything
    that is verified under its name, and the rest as parts to go on from.
    """
    card = card.absolute()
    found = survey(card)
    made = [destination(Path(b).absolute(), template, found, job, camera or card.name, when) for b in bases]
    roots = tuple({os.path.realpath(root): root for root in reversed(made)}.values())[::-1]  # one place, by whatever way
    for root in roots:
        real, held = Path(os.path.realpath(root)), Path(os.path.realpath(card))
        if real.is_relative_to(held) or held.is_relative_to(real):
            raise AdzerError(f"{shown(str(root))} and the card lie inside each other. Choose a folder on another disk.")
    control = control or Control()
    check_room(found, roots)
    outcome = Outcome(card, roots, oddities=found.oddities, size=found.size, expected=len(found.items))
    began = time.monotonic()

    def waits(root: Path) -> None:
        control.check()
        report(Moving("waiting for another offload to", shown(str(root)), 0, len(found.items), 0, 2 * found.size * len(roots)))

    try:
        with _alone(roots, waits):
            outcome.manifest = manifest_name(roots, {i.place for i in found.items})
            run = _Run(found, outcome, report, control)
            run.go()
            outcome.changed_meanwhile = survey(card).items != found.items
            outcome.seconds = time.monotonic() - began
            for root in roots:
                write_report(root, outcome)
    except PermissionError as error:
        raise AdzerError(f"{shown(str(error.filename))} may not be written by you. Choose another folder.") from None
    except OSError as error:
        raise AdzerError(
            f"{shown(str(error.filename or roots[0]))} cannot be written ({error.strerror}). Choose another folder."
        ) from None
    report(Moving("done", "", len(outcome.copied) + len(outcome.there), len(found.items), run.total, run.total))
    return outcome


def write_report(root: Path, outcome: Outcome) -> Path:
    """A text for people beside the copied tree; an earlier report is never replaced."""
    now = datetime.now()
    lines = [
        f"Offload of {shown(str(outcome.card))}, {now:%Y-%m-%d %H:%M}", "", outcome.words, "",
        f"{len(outcome.copied)} files copied, {len(outcome.there)} were there already and are the same; "
        f"{outcome.size / 1e6:.1f} MB in {outcome.seconds:.0f} s.",
        f"Check again at any time, in this folder: xxhsum -c {outcome.manifest}",
    ]  # fmt: skip
    for title, rows in (
        ("Differs from what is there", outcome.differing), ("Could not be copied", outcome.failed),
        ("Odd", {o.place: f"{shown(o.place)} {o.why}" for o in outcome.oddities}),
    ):  # fmt: skip
        if rows:
            lines += ["", title, *(f"  {text}" for text in rows.values())]
    for n in range(1, 1000):
        path = root / f"offload {now:%Y-%m-%d %H%M}{'' if n == 1 else f' {n}'}.txt"
        with contextlib.suppress(FileExistsError), path.open("x", encoding="utf-8", errors="replace") as file:
            file.write("\n".join(lines) + "\n")
            return path
    return root


def as_json(outcome: Outcome) -> dict[str, object]:
    """Plain values, with odd names made readable."""
    return {
        "card": shown(str(outcome.card)), "destinations": [shown(str(r)) for r in outcome.roots], "safe_to_erase": outcome.safe,
        "words": outcome.words, "copied": [shown(p) for p in outcome.copied], "there": [shown(p) for p in outcome.there],
        "differing": {shown(k): v for k, v in outcome.differing.items()},
        "failed": {shown(k): v for k, v in outcome.failed.items()},
        "oddities": [{"place": shown(o.place), "why": o.why, "blocks": o.blocks} for o in outcome.oddities],
        "bytes": outcome.size, "seconds": round(outcome.seconds, 2),
    }  # fmt: skip


def main() -> None:
    """For the desk, in a process of its own: arguments as JSON, progress as JSON lines, and pause, go or stop on input."""
    ask = json.loads(sys.argv[1])
    control = Control()

    def listen() -> None:
        for line in sys.stdin:
            {"pause": control.pause, "go": control.go_on}.get(line.strip(), control.stop)()
        control.stop()  # the desk is gone

    threading.Thread(target=listen, daemon=True).start()

    def say(moving: Moving) -> None:
        print(json.dumps({"moving": moving.__dict__}), flush=True)

    try:
        done = offload(Path(ask["card"]), [Path(p) for p in ask["to"]], ask["job"], ask.get("camera", ""),
                       ask.get("template", TEMPLATE), report=say, control=control)  # fmt: skip
        files = [str(done.roots[0] / p) for p in done.copied + done.there]
        print(json.dumps({"outcome": as_json(done), "files": files}), flush=True)
    except AdzerError as error:
        print(json.dumps({"error": str(error)}), flush=True)


if __name__ == "__main__":
    main()
