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
    """Of what is waiting or rendering. ``unknown``: slips of whose kind nothing was measured or rendered yet; they are in
    none of the sums."""

    seconds: float
    size: float
    unknown: int
    disks: tuple[Disk, ...]


def outlook(slips: Iterable[Slip], trials: Mapping[tuple[int, str], Trial]) -> Outlook:
    """``trials``: one measured second of (shot, delivery card). A slip goes by its own progress, else by its trial, else by
    what others of the same card in this queue came to, a frame."""
    slips = list(slips)
    paces: dict[str, tuple[float, float]] = {}  # card → seconds and bytes a frame
    for s in slips:
        if s.state == "rendering" and s.progress and s.progress.get("rate") and s.done:
            paces[s.order.card_name] = (1 / float(s.progress["rate"]), float(s.progress["size"]) / s.done)
    for s in slips:
        if s.state == "done" and s.report and s.total and s.order.card_name in paces:
            paces[s.order.card_name] = (paces[s.order.card_name][0], float(s.report["size"]) / s.total)
    seconds = size = 0.0
    unknown, needs = 0, dict[Path, float]()
    for s in slips:
        if s.state not in ("waiting", "rendering"):
            continue
        trial = trials.get((s.shot_id, s.order.card_name))
        left = max(s.total - s.done, 0)
        if s.state == "rendering" and s.order.card_name in paces:
            pace = paces[s.order.card_name]
        elif trial is not None and trial.frames:
            pace = (trial.seconds / trial.frames, trial.size / trial.frames)
        elif s.order.card_name in paces:
            pace = paces[s.order.card_name]
        else:
            unknown += 1
            continue
        seconds += pace[0] * left
        size += pace[1] * left
        folder = Path(s.order.out).parent
        # While segments are joined, the whole of it lies on the disk twice.
        needs[folder] = needs.get(folder, 0.0) + pace[1] * (left + (s.total if s.state == "rendering" else 0))
    by_disk: dict[int, Disk] = {}
    for folder, wanted in needs.items():
        there = next((p for p in (folder, *folder.parents) if p.exists()), None)
        if there is None:
            continue
        device = there.stat().st_dev
        held = by_disk.get(device)
        by_disk[device] = Disk(held.folder if held else there, wanted + (held.needs if held else 0), shutil.disk_usage(there).free)
    return Outlook(seconds, size, unknown, tuple(by_disk.values()))
