"""Reading a master back: is it what was ordered? Only a file that passes gets its name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

import av
import msgspec
import numpy as np
import xxhash

from ..compile import Order, RenderPlan
from ..errors import AdzerError
from ..look.between import AT_ONE
from ..media import disk, prints, probe
from ..media.boxes import SphereTags
from ..media.decode import Reader
from ..media.encode import EXACT
from ..media.packets import packet_print
from ..media.told import told
from ..read.check import spans_text
from ..target import Target, Wanted
from . import hearing, remade
from .compare import Comparison, Fault, steps_about
from .sources import spans_of
from .witness import Look, Witness, look


class Check(msgspec.Struct, frozen=True):
    """One comparison, in words with both numbers."""

    name: str
    passed: bool
    text: str


class Report(msgspec.Struct, frozen=True):
    checks: tuple[Check, ...]
    checksum: str
    size: int
    frames: int
    duration: float
    raster: tuple[int, int]

    @property
    def passed(self) -> bool:
        return all(c.passed for c in self.checks)


def check(
    path: Path, plan: RenderPlan, order: Order, witnesses: Iterable[Witness], sounds: list[int] | None = None, took: float = 0.0
) -> Report:
    """Frame count, raster, samples, tags, every time stamp, timecode; every packet as its encoder gave it out, every frame as it
    went in, every second of each channel of the sound. ``witnesses`` of the segments in order, gone through several times;
    ``sounds``: a print of each sound stream's packets; ``took``: seconds that the render did, of which a share goes into making some
    frames again from the recording."""
    try:
        facts = probe.probe(path)
    except AdzerError as error:
        return Report((Check("opens", False, str(error)),), "", path.stat().st_size, 0, 0.0, (0, 0))
    wanted = plan.target.wanted(plan.spec.raster, plan.timing, plan.timecode, len(order.facts.audio))
    checks = [_compared(w, w.found(facts)) for w in wanted]
    if plan.target.shown is not None or plan.target.packed is not None:
        checks.append(_shown_as(path, plan.target))
    _check_time(checks, path, plan, facts)
    if len(facts.audio) == len(order.facts.audio):
        _check_sound(checks, path, plan, order, facts)
    if damaged := sorted({n for w in witnesses for n in w.damaged}):
        checks.append(Check("source", True, f"{spans_text(spans_of(damaged))} of the recording decode with errors and are used as they decode"))
    if facts.frames == len(plan.timing):
        _check_packets(checks, path, plan, witnesses, sounds or [])
        chosen = remade.Chosen(plan, order.digest)
        _check_frames(checks, path, plan, witnesses, chosen)
        _check_source(checks, order, chosen, took)
        if plan.timing.between:
            made, again = (sum(getattr(w, name) for w in witnesses) for name in ("made", "again"))
            parts = sum(w.parts for w in witnesses)
            text = f"{made} of {facts.frames} frames were made between two recorded ones"
            text += f", {again} shown again where these do not agree about what moved" if again else ""
            text += f", and {parts / made:.1%} of what was made, where something only changed" if made and parts / made > 5e-4 else ""
            least, most = _between(plan, order)
            fits = least <= made + again <= most
            checks.append(Check("made between", fits, text if fits else f"{text}; between recorded ones lie {least}"))
    return Report(
        tuple(checks),
        prints.checksum(path),
        path.stat().st_size,
        facts.frames,
        round(float(facts.duration), 6),
        facts.raster,
    )


def _between(plan: RenderPlan, order: Order) -> tuple[int, int]:
    """How many delivered moments lie between two recorded frames, at least and at most: what is a 64th of the way off may be either."""
    index = probe.scan(order.facts.source, order.facts.fingerprint)
    times, moments = (index.pts - index.pts[0]) * float(order.facts.time_base), plan.timing.moments
    after = np.searchsorted(times, moments)
    inside = (after > 0) & (after < len(times))
    left, right = (moments[inside] - times[after[inside] - 1], times[after[inside]] - moments[inside])
    part = np.minimum(left, right) / (left + right)
    return int((part > AT_ONE + 1e-6).sum()), int((part > AT_ONE - 1e-6).sum())


def _compared(wanted: Wanted, found: str) -> Check:
    ok = wanted.alike(wanted.value, found)
    return Check(wanted.name, ok, f"{wanted.name} {found}" if ok else f"{wanted.name} is {found}, {wanted.value} was ordered")


def _shown_as(path: Path, target: Target) -> Check:
    """What the media library, whose reader of these boxes shares nothing with ours, tells a player of the first frame."""
    said = told(path).words
    tags = target.shown or SphereTags("", None, *(target.packed or (None, None)))
    wanted = [f"{tags.projection} without {tuple(round(b, 3) for b in tags.bounds)}"] if tags.projection else []
    wanted.append((tags.eyes or "one") + (", right first" if tags.first == "right" else ""))
    ok = said == wanted or (said == wanted[:-1] and wanted[-1] == "one")
    words = "; ".join(said) or "a flat picture"
    return Check("shown as", ok, f"a player is told: {words}" + ("" if ok else f", and should be: {'; '.join(wanted)}"))


def _check_time(checks: list[Check], path: Path, plan: RenderPlan, facts: probe.FileFacts) -> None:
    index = probe.scan(path, facts.fingerprint)
    found = (index.pts - index.pts[0]).astype(np.float64) * float(facts.time_base)
    wanted = plan.timing.stamps.astype(np.float64) * float(plan.timing.time_base)
    if len(found) == len(wanted):
        worst = float(np.abs(found - wanted).max())
        slack = float(facts.time_base) + 1e-9
        checks.append(Check("time stamps", worst <= slack, f"time stamps are off by {worst * 1000:.2f} ms at most"))


def _check_sound(checks: list[Check], path: Path, plan: RenderPlan, order: Order, facts: probe.FileFacts) -> None:
    for n in range(len(facts.audio)):
        name = "sound" if len(facts.audio) == 1 else f"sound {n + 1}"
        try:
            heard = hearing.compare(order.facts.source, plan.timing.start, plan.timing.stop, path, facts.start, n, plan.timing.speed)
        except AdzerError as error:
            checks.append(Check(name, False, str(error)))
            continue
        text = f"{name} {'; '.join(heard.faults)}" if heard.faults else heard.words.replace("sound", name, 1)
        checks.append(Check(name, not heard.faults, text))


def _check_packets(checks: list[Check], path: Path, plan: RenderPlan, held: Iterable[Witness], sounds: list[int]) -> None:
    """Everything that the encoders gave out lies on the disk, in its order."""
    disk.forget_file(path)
    wanted = [p for w in held for p in w.prints]
    found: list[int] = []
    heard = [xxhash.xxh3_64() for _ in sounds]
    with av.open(str(path)) as container:
        place = {stream.index: n for n, stream in enumerate(container.streams.audio)}
        picture = container.streams.video[0].index
        for packet in container.demux():
            if packet.size and packet.stream_index == picture:
                found.append(packet_print(bytes(packet), plan.spec.encoder, framed=True))
            elif packet.size and place.get(packet.stream_index, len(heard)) < len(heard):
                heard[place[packet.stream_index]].update(bytes(packet))
    bad = next((n for n, (a, b) in enumerate(zip(wanted, found, strict=False)) if a != b), None)
    if len(found) != len(wanted):
        text = f"the file holds {len(found)} packets, the encoder gave out {len(wanted)}"
    elif bad is not None:
        text = f"packet {bad} is not what the encoder gave out"
    else:
        text = f"all {len(found)} packets lie on the disk as they left the encoder"
    checks.append(Check("packets", bad is None and len(found) == len(wanted), text))
    lost = [n + 1 for n, (a, b) in enumerate(zip(sounds, heard, strict=True)) if a != b.intdigest()]
    if lost:
        checks.append(Check("sound packets", False, f"sound {lost[0]} does not lie on the disk as it left its encoder"))


def _check_source(checks: list[Check], order: Order, chosen: remade.Chosen, took: float) -> None:
    """Some frames as the recording gives them, by a way that shares nothing with what made them."""
    if order.copy_scale is not None or not chosen.sites or not chosen.found:
        return
    try:
        verdict = remade.compared(chosen, order, took)
    except AdzerError as error:
        checks.append(Check("frames as recorded", False, str(error)))
        return
    text = f"{verdict.count} frames that were made again from the recording are what was delivered"
    checks.append(Check("frames as recorded", not verdict.faults, "; ".join(verdict.faults[:3]) or text))


def _check_frames(checks: list[Check], path: Path, plan: RenderPlan, held: Iterable[Witness], chosen: remade.Chosen) -> None:
    """Every frame as it is decoded against the one that went in."""
    spec, total = plan.spec, len(plan.timing)
    exact = spec.encoder in EXACT
    comparison = Comparison(spec.raster, spec.bits)
    changed, count = None, 0
    steps = np.concatenate([steps_about(w.steps, spec.encoder) for w in held])
    try:
        with Reader(path) as reader:
            for (before, wanted, after), frame in zip(_neighbours(held), reader.frames(), strict=True):
                found = look(frame.planes, frame.raster, frame.format.sub, exact)
                if exact and changed is None and found.print != wanted.print:
                    changed = count
                comparison.add(wanted, found, [k for k in (before, after) if k is not None], float(steps[count]))
                chosen.add(count, frame, comparison.found[-1].rest, float(steps[count]))
                count += 1
    except (AdzerError, ValueError) as error:
        checks.append(Check("frames as they went in", False, f"frame {count} of {total} cannot be decoded: {error}"))
        return
    faults = comparison.faults()
    if changed is not None:
        text = f"frame {changed} does not come back sample for sample"
    elif faults:
        text = "; ".join(_fault_text(f) for f in faults)
    else:
        text = f"all {total} frames come back " + ("sample for sample" if exact else "as they went in")
    checks.append(Check("frames as they went in", changed is None and not faults, text))


def _neighbours(held: Iterable[Witness]) -> Iterator[tuple[Look | None, Look, Look | None]]:
    """Each look with the one before and after it."""
    looks = iter(k for w in held for k in w.looks)
    before, here = None, next(looks, None)
    while here is not None:
        after = next(looks, None)
        yield before, here, after
        before, here = here, after


def _fault_text(fault: Fault) -> str:
    if fault.name == "order":
        return f"frame {fault.frame} is nearer to its neighbour than to itself"
    where = "" if fault.frame < 0 else f" of frame {fault.frame}"
    return f"{fault.name}{where} differs by {fault.size:.2g}, of which the encoder may be the cause of {fault.limit:.2g}"
