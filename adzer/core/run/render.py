"""Runs a RenderPlan: in segments that survive a power cut, joined by stream copy, read back, and only then named.

Beside the master-to-be ``NAME.mp4`` lies the folder ``NAME.mp4.parts`` with the order's digest, every finished segment
and what was witnessed of it. Whoever starts the same order again goes on from there. A different order starts afresh.
"""

from __future__ import annotations

import contextlib
import fcntl
import heapq
import json
import os
import shutil
import time
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import xxhash
from av.container import OutputContainer

from ..compile import Order, RenderPlan, compile_order
from ..deliver.advise import Trial
from ..errors import AdzerError, Cancelled, RenderFailed
from ..media import audio, boxes, disk
from ..media.encode import EXACT, Writer, container_for
from ..media.told import sheet
from . import verify
from .ahead import ahead
from .frames import Inputs
from .pixels import Processor
from .witness import Witness, look


class Progress(msgspec.Struct, frozen=True):
    """``doing`` rendering · joining · checking; frames done of total; frames a second, seconds left, bytes so far."""

    doing: str
    done: int
    total: int
    rate: float = 0.0
    left: float = 0.0
    size: int = 0


Report = Callable[[Progress], None]
PROGRESSIVE = 1  # the library's number of it among field orders
SPARED = 200_000_000  # bytes, or a hundredth of a small disk, that stay free


def keep_room(out: Path, needed: int = 0) -> None:
    """RenderFailed with a sentence if the disk would be as good as full after ``needed`` further bytes."""
    disk = shutil.disk_usage(out.parent)
    spared = min(SPARED, disk.total // 100)
    if disk.free - needed < spared:
        raise RenderFailed(
            f"{out}: stopped before the disk was full: {disk.free / 1e6:.0f} MB are free in {out.parent}, {(needed + spared) / 1e6:.0f} MB "
            "are needed. Free some space and go on; what is finished is kept."
        )


LOCK = "lock"


def render_segment(
    plan: RenderPlan, inputs: Inputs, processor: Processor, span: tuple[int, int], path: Path, threads: int,
    tick: Callable[[int], None],
) -> Witness:  # fmt: skip
    """Encodes delivered frames [from, to) into ``path``; returns what the read-back is to find."""
    part = slice(*span)
    stamps, times = plan.timing.stamps[part].tolist(), plan.timing.moments[part]
    moments = times.tolist()
    witness, before = Witness(), (inputs.made, inputs.again)
    sub, exact = plan.spec.format.sub, plan.spec.encoder in EXACT
    with Writer(path, plan.spec, threads) as writer:

        def worked() -> Iterator[tuple[av.VideoFrame, int]]:
            decoded = ahead(inputs.along(plan.timing.frames[part], times, plan.timing.between))
            with contextlib.closing(decoded):  # type: ignore[type-var]
                for frames, stamp, moment, after in zip(decoded, stamps, moments, [*moments[1:], None], strict=True):
                    blank, planes = writer.blank()
                    processor.run(frames, planes, moment, after)
                    witness.looks.append(look(planes, plan.spec.raster, sub, exact))
                    yield blank, stamp

        finished = ahead(worked())
        with contextlib.closing(finished):  # type: ignore[type-var]
            for n, (blank, stamp) in enumerate(finished):
                writer.write(blank, stamp - stamps[0])
                tick(n + 1)
    witness.prints, witness.steps = writer.prints, writer.quantisers
    witness.made, witness.again = inputs.made - before[0], inputs.again - before[1]
    return witness


def parts_folder(out: Path) -> Path:
    return out.with_name(out.name + ".parts")


class _Parts:
    """The folder of finished segments of one order."""

    def __init__(self, order: Order, out: Path) -> None:
        self.folder, self.suffix = parts_folder(out), out.suffix
        self._held: int | None = None
        held = self.folder / "order.json"
        try:
            out.parent.mkdir(parents=True, exist_ok=True)
            if os.path.lexists(self.folder):
                if (digest := self._digest(held)) is None:
                    raise AdzerError(
                        f"{self.folder} is in the way and was not made by Adzer. Move it away, or give the master another name."
                    )
                self._lock(out)
                if digest != order.digest:
                    for old in self.folder.iterdir():
                        if old != self.folder / LOCK:
                            old.unlink()
            else:
                self.folder.mkdir()
                self._lock(out)
            held.write_text(json.dumps({"digest": order.digest, "shot": order.shot, "card": order.card_name}))
        except OSError as error:
            raise AdzerError(
                f"{out.parent} cannot be written to ({error.strerror}). Choose another output folder."
            ) from None

    def _lock(self, out: Path) -> None:
        """Until this process ends or ``close``: two that render to one name would undo each other's work."""
        self._held = os.open(self.folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o644)
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self.close()
            raise AdzerError(f"{out} is being rendered already, by another Adzer. Wait for it, or stop it.") from None

    def close(self) -> None:
        if self._held is not None:
            os.close(self._held)
            self._held = None

    def remove(self) -> None:
        """Of our own folder, nothing else."""
        shutil.rmtree(self.folder)

    @staticmethod
    def _digest(held: Path) -> str | None:
        """Of the order that the folder's segments belong to; None if that cannot be told."""
        try:
            plain = json.loads(held.read_text())
        except (OSError, ValueError):
            return None
        digest = plain.get("digest") if isinstance(plain, dict) else None
        return digest if isinstance(digest, str) else None

    def segment(self, n: int) -> Path:
        return self.folder / f"{n:05d}{self.suffix}"

    def finished(self, n: int) -> int | None:
        """How many frames a finished segment has; None if it is not finished."""
        try:
            return len(self.witness(n).looks) if self.segment(n).exists() else None
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
            return None

    def witness(self, n: int) -> Witness:
        return Witness.load(self.segment(n).with_suffix(".npz"))

    def finish(self, n: int, part: Path, witness: Witness) -> None:
        """What was witnessed first, then the segment's name: whoever sees the segment finds it whole, on the disk."""
        held = self.segment(n).with_suffix(".npz")
        witness.save(held)
        disk.flush(held)
        disk.flush(part)
        part.replace(self.segment(n))
        disk.flush(self.folder)

    def witnesses(self, count: int) -> _Witnesses:
        return _Witnesses(self, count)

    @property
    def size(self) -> int:
        return sum(p.stat().st_size for p in self.folder.iterdir())


@dataclass(frozen=True)
class _Witnesses:
    """Of all segments in order, each loaded when its turn comes."""

    parts: _Parts
    count: int

    def __iter__(self) -> Iterator[Witness]:
        return (self.parts.witness(n) for n in range(self.count))


def render(
    order: Order, report: Report = lambda _: None, cancelled: Callable[[], bool] = lambda: False, threads: int = 2
) -> verify.Report:
    """Renders, joins, reads back. Returns the check's report; the master then lies at ``order.out``.

    Raises Cancelled (segments are kept), or AdzerError with a sentence; then ``NAME.failed.json`` says why and no file
    looks like a master.
    """
    out = Path(order.out)
    failed = out.with_name(out.name + ".failed.json")
    if out.exists():
        raise AdzerError(f"{out} is there already; it is never overwritten. Give another name, or move it away.")
    try:
        return _render(order, out, report, cancelled, threads)
    except Cancelled:
        raise
    except (AdzerError, OSError, MemoryError, av.FFmpegError) as error:
        text = str(error) if isinstance(error, AdzerError) else (
            f"{out} could not be rendered: {getattr(error, 'strerror', None) or error}. Free some space or choose another folder."
        )  # fmt: skip
        with contextlib.suppress(OSError):
            failed.write_text(
                json.dumps({"master": str(out), "shot": order.shot, "card": order.card_name, "why": text}, indent=1)
            )
        if isinstance(error, AdzerError):
            raise
        raise RenderFailed(text) from None


def _render(order: Order, out: Path, report: Report, cancelled: Callable[[], bool], threads: int) -> verify.Report:
    plan = compile_order(order)
    container_for(out)
    parts = _Parts(order, out)
    try:
        return _rendered(order, plan, out, parts, report, cancelled, threads)
    finally:
        parts.close()


def _rendered(
    order: Order, plan: RenderPlan, out: Path, parts: _Parts, report: Report, cancelled: Callable[[], bool], threads: int
) -> verify.Report:  # fmt: skip
    spans = plan.segments()
    total = len(plan.timing)
    known = [parts.finished(n) for n in range(len(spans))]
    have = sum(count for count in known if count is not None)
    began, fresh = time.monotonic(), 0

    looked = time.monotonic()

    def tick(done: int) -> None:
        nonlocal looked
        if cancelled():
            raise Cancelled(f"{order.shot}: stopped at frame {done} of {total}; what is finished is kept.")
        if time.monotonic() - looked > 2.0:
            looked = time.monotonic()
            keep_room(out)
        rate = fresh_rate()
        report(Progress("rendering", done, total, rate, (total - done) / rate if rate else 0.0, parts.size))

    def fresh_rate() -> float:
        return fresh / max(time.monotonic() - began, 1e-6)

    keep_room(out)
    with Inputs(plan.pixels.inputs, order.facts) as inputs, Processor(plan.pixels, threads) as processor:
        for n, span in enumerate(spans):
            if known[n] is None:
                part = parts.folder / f"{n:05d}.part{out.suffix}"

                def counted(k: int) -> None:
                    nonlocal fresh
                    fresh += 1
                    tick(have + k)  # noqa: B023 - called before the loop goes on

                witness = render_segment(plan, inputs, processor, span, part, threads, counted)
                parts.finish(n, part, witness)
                have += len(witness.looks)
    report(Progress("joining", total, total, size=parts.size))
    keep_room(out, parts.size)
    joined = parts.folder / f"joined{out.suffix}"
    sounds = join(plan, order, [parts.segment(n) for n in range(len(spans))], joined)
    disk.flush(joined)
    report(Progress("checking", total, total, size=joined.stat().st_size))
    checked = verify.check(joined, plan, order, parts.witnesses(len(spans)), sounds)
    if not checked.passed:
        joined.unlink()
        parts.remove()
        bad = "; ".join(c.text for c in checked.checks if not c.passed)
        raise RenderFailed(
            f"{out.name} failed its check and was not kept: {bad}. Render it again; if it fails again, the report helps."
        )
    if not disk.name(joined, out):
        raise AdzerError(
            f"{out} has come there while it was rendered; it is never overwritten. Move it away and start again: what is rendered is kept."
        )
    parts.remove()
    if plan.target.shown is not None or plan.target.packed is not None:
        with contextlib.suppress(OSError):  # the master says it all itself
            target = plan.target
            out.with_name(out.name + ".txt").write_text(sheet(target.shown, target.packed, plan.spec.raster, target.half), "utf-8")
    return checked


def join(plan: RenderPlan, order: Order, segments: list[Path], out: Path) -> list[int]:
    """Copies the segments' packets into one file with exact stamps, and carries the sound along; returns a print of each sound
    stream's packets."""
    stamps = plan.timing.stamps
    delay = max(_reordering(s) for s in segments)
    base = plan.timing.time_base
    usual = plan.timing.last
    movflags = {"movflags": "+faststart"} if out.suffix in (".mp4", ".mov") else {}
    shown = plan.target.shown
    if shown is not None and out.suffix != ".mkv":  # its header lies in front, too, with room for what is told of sphere and eyes
        lasts = float(plan.timing.stop - plan.timing.start)
        many = len(stamps) + sum(int(a.rate * lasts / 256) for a in order.facts.audio)  # of sound, packets are no shorter than that
        movflags = {"moov_size": str(64 * many + (1 << 16))}
    with av.open(str(out), "w", format=container_for(out), options=movflags) as target:
        with av.open(str(segments[0])) as first:
            template = first.streams.video[0]
            head = bytes(template.codec_context.extradata or b"")
            stream = target.add_stream_from_template(template)
            if plan.spec.encoder == "h265" and out.suffix != ".mkv":
                stream.codec_context.codec_tag = "hvc1"
        stream.time_base = base
        stream.codec_context.framerate = plan.timing.rate
        stream.codec_context.sample_aspect_ratio = plan.spec.pixel_aspect
        stream.codec_context.field_order = PROGRESSIVE
        if plan.target.turn:
            stream.set_display_rotation(-plan.target.turn % 360)
        plan.spec.tags.put_on(stream.codec_context)
        if shown is not None and out.suffix == ".mkv":
            stream.metadata["title"] = boxes.ROOM
        if plan.timecode:
            stream.metadata["timecode"] = target.metadata["timecode"] = plan.timecode
        prints = [xxhash.xxh3_64() for _ in order.facts.audio]
        sound = _sound(plan, order, target, prints)
        pending = next(sound, None)
        count = 0
        for path, (start, stop) in zip(segments, plan.segments(), strict=True):
            with av.open(str(path)) as source:
                video = source.streams.video[0]
                if bytes(video.codec_context.extradata or b"") != head:
                    raise RenderFailed(
                        f"{path.name} was encoded with other settings than the first. Delete {path.parent} and render again."
                    )
                packets = [p for p in source.demux(video) if p.size]
                if len(packets) != stop - start:
                    raise RenderFailed(
                        f"{path.name} holds {len(packets)} frames instead of {stop - start}. Delete {path.parent} and render again."
                    )
                order_ = np.argsort(np.argsort([p.pts or 0 for p in packets], kind="stable"), kind="stable")
                for packet, rank in zip(packets, order_, strict=True):
                    packet.stream = stream
                    packet.time_base = base
                    at = start + int(rank)
                    packet.pts = int(stamps[at])
                    back = count - delay
                    packet.dts = int(stamps[back]) if back >= 0 else int(stamps[0]) + back * usual
                    packet.duration = int(stamps[at + 1] - stamps[at]) if at + 1 < len(stamps) else usual
                    now = packet.dts * base
                    while pending is not None and (pending.dts or 0) * (pending.time_base or base) <= now:
                        target.mux(pending)
                        pending = next(sound, None)
                    target.mux(packet)
                    count += 1
        while pending is not None:
            target.mux(pending)
            pending = next(sound, None)
    if out.suffix == ".mkv" and plan.spec.pixel_aspect == 1:
        boxes.say_square(out)
    if shown is not None and out.suffix == ".mkv":
        boxes.put_into_matroska(out, shown)
    elif shown is not None:  # version 1 knows no parts of spheres, and no flat pairs
        boxes.put_into_mp4(out, shown, (1, 2) if shown.projection and not any(shown.bounds) else (2,))
    return [p.intdigest() for p in prints]


def _reordering(path: Path) -> int:
    """By how many frames decoding runs ahead of showing."""
    with av.open(str(path)) as source:
        stamps = np.array([p.pts for p in source.demux(source.streams.video[0]) if p.size])
    ranks = np.argsort(np.argsort(stamps, kind="stable"), kind="stable")
    return int(max(0, (np.arange(len(ranks)) - ranks).max(initial=0)))


def _sound(plan: RenderPlan, order: Order, target: OutputContainer, prints: list[xxhash.xxh3_64]) -> Iterator[av.Packet]:
    """The packets of every sound stream, the streams one after another in the container, merged by time."""
    when = plan.timing

    def printed(packets: Iterator[av.Packet], n: int) -> Iterator[av.Packet]:
        for packet in packets:
            prints[n].update(bytes(packet))
            yield packet

    streams = [
        printed(
            audio.encoded(order.facts.source, when.start, when.stop, n, target, order.card.audio, order.card.audio_kbits, when.speed), n
        )
        for n in range(len(order.facts.audio))
    ]
    return heapq.merge(*streams, key=lambda p: (p.dts or 0) * (p.time_base or Fraction(1, 48000)))


def trial(order: Order, folder: Path, threads: int = 2) -> Trial:
    """Renders one second from the middle of the order into ``folder`` and measures it."""
    plan = compile_order(order)
    n = len(plan.timing)
    count = min(n, max(1, round(plan.timing.rate)))
    start = (n - count) // 2
    path = folder / f"trial{Path(order.out).suffix}"
    try:
        with (
            Inputs(plan.pixels.inputs, order.facts) as inputs,
            Processor(plan.pixels, threads) as processor,
        ):
            # Opening, seeking and loading the loops are not part of the second.
            first = slice(start, start + 1)
            for frames in inputs.along(plan.timing.frames[first], plan.timing.moments[first]):
                processor.run(frames, Writer.loose(plan.spec), float(plan.timing.moments[start]))
            began = time.monotonic()
            render_segment(plan, inputs, processor, (start, start + count), path, threads, lambda _: None)
            took = time.monotonic() - began
        size = path.stat().st_size
    finally:
        path.unlink(missing_ok=True)
    return Trial(order.card_name, count, took, size, plan.spec.raster)
