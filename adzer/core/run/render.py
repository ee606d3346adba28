"""Runs a RenderPlan: in segments that survive a power cut, joined by stream copy, read back, and only then named.

Beside the master-to-be ``NAME.mp4`` lies a folder ``NAME.mp4.*.parts`` with every finished segment and what was witnessed of it
(``run.parts``). Whoever starts the same order again goes on from there. A different order starts afresh.
"""

from __future__ import annotations

import contextlib
import heapq
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
import xxhash
from av.container import OutputContainer

from ..compile import Order, RenderPlan, compile_order
from ..deliver.advise import Trial
from ..errors import AdzerError, Cancelled, RenderFailed, shown
from ..media import audio, boxes, disk
from ..media.encode import EXACT, Writer, container_for
from ..media.told import sheet
from . import verify
from .ahead import ahead
from .frames import Inputs
from .parts import Parts
from .pixels import Processor
from .sources import Sources
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


def render_segment(
    plan: RenderPlan, inputs: Inputs, processor: Processor, span: tuple[int, int], path: Path, threads: int,
    tick: Callable[[int], None],
) -> Witness:  # fmt: skip
    """Encodes delivered frames [from, to) into ``path``; returns what the read-back is to find."""
    part = slice(*span)
    stamps, times = plan.timing.stamps[part].tolist(), plan.timing.moments[part]
    moments = times.tolist()
    witness, before = Witness(), (inputs.made, inputs.again, inputs.parts)
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
    witness.made, witness.again, witness.parts = inputs.made - before[0], inputs.again - before[1], inputs.parts - before[2]
    witness.damaged, inputs.damaged = sorted(inputs.damaged), set()
    return witness


def render(
    order: Order, report: Report = lambda _: None, cancelled: Callable[[], bool] = lambda: False, threads: int = 2
) -> verify.Report:
    """Renders, joins, reads back. Returns the check's report; the master then lies at ``order.out``.

    Raises Cancelled (segments are kept), or AdzerError with a sentence; then ``NAME.failed.json`` says why and no file
    looks like a master.
    """
    out = Path(order.out)
    try:
        if os.path.lexists(out):
            raise AdzerError(f"{out} is there already; it is never overwritten. Give another name, or move it away.")
    except (OSError, ValueError) as error:
        raise AdzerError(f"{shown(str(out))} cannot be the name of a file ({error}). Give another one.") from None
    try:
        return _render(order, out, report, cancelled, threads)
    except Cancelled:
        raise
    except (AdzerError, OSError, MemoryError, av.FFmpegError) as error:
        text = str(error) if isinstance(error, AdzerError) else (
            f"{out} could not be rendered: {getattr(error, 'strerror', None) or error}. Free some space or choose another folder."
        )  # fmt: skip
        told = json.dumps({"master": str(out), "shot": order.shot, "card": order.card_name, "why": text}, indent=1)
        with contextlib.suppress(OSError):
            disk.write_beside(out.with_name(out.name + ".failed.json"), told.encode())
        if isinstance(error, AdzerError):
            raise
        raise RenderFailed(text) from None


def _render(order: Order, out: Path, report: Report, cancelled: Callable[[], bool], threads: int) -> verify.Report:
    plan = compile_order(order)
    container_for(out)
    for n in range(len(order.facts.audio)):
        audio.check(order.facts.source, n, order.card.audio)
    sources = Sources(plan, order)
    parts = Parts(out, f"{order.digest} {sources.stamp}")
    try:
        return _rendered(order, plan, out, parts, sources, report, cancelled, threads)
    finally:
        parts.close()


def _rendered(
    order: Order, plan: RenderPlan, out: Path, parts: Parts, sources: Sources, report: Report, cancelled: Callable[[], bool], threads: int
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
                part = parts.at / f"{n:05d}.part{out.suffix}"

                def counted(k: int) -> None:
                    nonlocal fresh
                    fresh += 1
                    tick(have + k)  # noqa: B023 - called before the loop goes on

                witness = render_segment(plan, inputs, processor, span, part, threads, counted)
                sources.check()
                if witness.damaged and order.route.read.damage == "stop":
                    raise sources.damage(plan, cancelled)
                parts.finish(n, part, witness)
                have += len(witness.looks)
    report(Progress("joining", total, total, size=parts.size))
    keep_room(out, parts.size)
    joined = parts.at / f"joined{out.suffix}"
    sounds = join(plan, order, [parts.segment(n) for n in range(len(spans))], joined, parts.shown)
    disk.flush(joined)
    report(Progress("checking", total, total, size=joined.stat().st_size))
    checked = verify.check(joined, plan, order, parts.witnesses(len(spans)), sounds, time.monotonic() - began)
    sources.check(whole=True)
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
            words = sheet(target.shown, target.packed, plan.spec.raster, target.half)
            disk.write_beside(out.with_name(out.name + ".txt"), words.encode())
    return checked


def join(plan: RenderPlan, order: Order, segments: list[Path], out: Path, shown_as: Path | None = None) -> list[int]:
    """Copies the segments' packets into one file with exact stamps, and carries the sound along; returns a print of each sound
    stream's packets. ``shown_as``: the segments' folder as people know it."""
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
                        f"{path.name} was encoded with other settings than the first. Delete {shown_as or path.parent} and render again."
                    )
                packets = [p for p in source.demux(video) if p.size]
                if len(packets) != stop - start:
                    raise RenderFailed(
                        f"{path.name} holds {len(packets)} frames instead of {stop - start}. Delete {shown_as or path.parent} and render again."
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
