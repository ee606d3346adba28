"""When a queue will be done, how much it will write, and whether its disks have room for it."""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from ..job import Slip, Trial


@dataclass(frozen=True)
class Disk:
    """``needs``: bytes that are still to be written to it; ``free``: bytes that it has."""

    folder: Path
    needs: float
    free: int

    @property
    def short(self) -> bool:
        return self.needs > self.free


@dataclass(frozen=True)
class Outlook:
    """Of what is waiting or rendering. ``unknown``: queued renders of whose kind it was not measured yet how long a frame takes, or how
    large it is; that is not in the sums. ``spans``: number of a queued render, and seconds from now at which it begins and ends, one after
    another; those that are not known take no time."""

    seconds: float
    size: float
    unknown: int
    disks: tuple[Disk, ...]
    spans: tuple[tuple[int, float, float], ...] = ()


def outlook(slips: Iterable[Slip], trials: Mapping[tuple[int, str], Trial]) -> Outlook:
    """``trials``: one measured second of (shot, delivery card). Its time goes by its own progress, else by its trial, else by
    others of the same card that render; its size by its trial, else by what others of the card came to, a frame."""
    slips = list(slips)
    paces: dict[str, float] = {}  # card → seconds a frame
    weights: dict[str, float] = {}  # card → bytes a frame
    for s in slips:
        if s.state == "rendering" and s.progress and s.progress.get("rate"):
            paces[s.order.card_name] = 1 / float(s.progress["rate"])
        if s.state == "done" and s.report and s.total:
            weights[s.order.card_name] = float(s.report["size"]) / s.total
    seconds = size = 0.0
    unknown, needs, spans = 0, dict[Path, float](), list[tuple[int, float, float]]()
    for s in sorted(slips, key=lambda s: (s.state != "rendering", s.id)):  # what renders comes first, then as they were queued
        if s.state not in ("waiting", "rendering"):
            continue
        trial = trials.get((s.shot_id, s.order.card_name))
        left = max(s.total - s.done, 0)
        measured = (trial.seconds / trial.frames, trial.size / trial.frames) if trial and trial.frames else (None, None)
        own = paces.get(s.order.card_name) if s.state == "rendering" else None
        pace = own or measured[0] or paces.get(s.order.card_name)
        weight = measured[1] or weights.get(s.order.card_name)  # its own segments count only when they are finished
        spans.append((s.id, seconds - (pace or 0.0) * s.done if s.state == "rendering" else seconds, seconds + (pace or 0.0) * left))
        seconds += (pace or 0.0) * left
        size += (weight or 0.0) * left
        unknown += pace is None or weight is None
        if weight is not None:
            folder = Path(s.order.out).parent
            # While segments are joined, the whole of it lies on the disk twice.
            needs[folder] = needs.get(folder, 0.0) + weight * (left + (s.total if s.state == "rendering" else 0))
    by_disk: dict[int, Disk] = {}
    for folder, wanted in needs.items():
        there = next((p for p in (folder, *folder.parents) if p.exists()), None)
        if there is None:
            continue
        device = there.stat().st_dev
        held = by_disk.get(device)
        by_disk[device] = Disk(held.folder if held else there, wanted + (held.needs if held else 0), shutil.disk_usage(there).free)
    return Outlook(seconds, size, unknown, tuple(by_disk.values()), tuple(spans))
