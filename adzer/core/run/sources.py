"""The recordings that a render reads, watched while it does: what was opened is what is read, from the first frame to the last."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from ..compile import Order, RenderPlan
from ..errors import Cancelled, DamagedError, UnreadableError
from ..media import prints
from ..media.decode import opened
from ..media.rolls import all_paths
from ..read.check import spans_text


class Sources:
    """Every file of an order's pictures and sound as it is now. ``stamp`` is another one as soon as any of them is written to."""

    def __init__(self, plan: RenderPlan, order: Order) -> None:
        self._facts, self._order = order.facts, order
        recorded = [s for i in plan.pixels.inputs for s in i.sources] + list(order.facts.sources)
        stills = [Path(i.still.file) for i in plan.pixels.inputs if i.still is not None]
        self._paths = sorted({p for s in recorded for p in all_paths(s)} | set(stills))
        self._held = [self._of(p) for p in self._paths]
        self.stamp = self._stamp()

    def _of(self, path: Path) -> tuple[int, int]:
        """Which file a name stands for: one that is put in its place by renaming is another."""
        try:
            held = path.stat()
        except OSError:
            raise self._changed(path, "is not there any more") from None
        return held.st_dev, held.st_ino

    def _stamp(self) -> str:
        try:
            return prints.stamp(self._paths)
        except OSError as error:
            raise self._changed(Path(str(error.filename)), "is not there any more") from None

    @staticmethod
    def _changed(path: Path, how: str) -> UnreadableError:
        return UnreadableError(f"{path} {how}: nothing that was rendered of it is used. Read it again, then queue the shot anew.")

    def check(self, whole: bool = False) -> None:
        """UnreadableError if a file was changed, or another one put in its place, since this was made; ``whole``: its contents are
        looked at, too."""
        for path, held in zip(self._paths, self._held, strict=True):
            if self._of(path) != held:
                raise self._changed(path, "was replaced while it was rendered")
        if self._stamp() != self.stamp or (whole and prints.changed(self._facts)):
            raise self._changed(self._paths[0] if len(self._paths) == 1 else Path(self._facts.path), "was changed while it was rendered")

    def damage(self, plan: RenderPlan, cancelled: Callable[[], bool]) -> DamagedError:
        """A sentence with all frames of the shot's range that decode with errors, of whichever of its recordings has some."""
        order = self._order
        groups = {i.sources or order.facts.sources: None for i in plan.pixels.inputs if i.still is None}
        for sources in groups:
            bad = list[int]()
            with opened(sources) as reader:
                stop = min(order.stop, len(reader))
                for frame in reader.frames(min(order.start, stop), stop):
                    if cancelled():
                        raise Cancelled(f"{order.shot}: stopped.")
                    if frame.damaged:
                        bad.append(frame.number)
            if bad:
                spans = spans_of({n for k in bad for n in range(max(order.start, k - reader.reordered), k + 1)})
                return DamagedError(
                    f"{all_paths(sources[0])[0]}: {spans_text(spans)} decode with errors. Copy the file from the card again; or say on Read that "
                    "damaged frames are used as they decode (read.damage=use).", order.facts.fingerprint, spans,
                )  # fmt: skip
        return DamagedError(f"{order.facts.path}: a frame decodes with errors. Copy the file from the card again.", order.facts.fingerprint, ())


def spans_of(numbers: Iterable[int]) -> tuple[tuple[int, int], ...]:
    """Runs of numbers that follow each other, each from and up to which (excluded)."""
    spans: list[tuple[int, int]] = []
    for n in sorted(numbers):
        if spans and spans[-1][1] == n:
            spans[-1] = (spans[-1][0], n + 1)
        else:
            spans.append((n, n + 1))
    return tuple(spans)
