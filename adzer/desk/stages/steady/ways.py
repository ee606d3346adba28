"""Which way of steadying is best: each tried and told in a table, or played beside the others."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ....core.job import Shot
from ....core.look.motion import enlarged
from ....core.media.probe import FileFacts
from ....core.read.seen import Seen
from ....core.route import Route
from ....core.run.trying import METHODS, STANDS, Matters, Way, best
from ....core.steady.measure import Shake, Turned
from ...looping import FIT, SECONDS, Looping
from ...model import Desk
from ...widgets.plots import Table
from ...widgets.questions import Choice, Question, act

NAMES = {
    "off": "as held", "hold": "hold", "drift": "no jitter", "path": "even way", "lock": "it stays", "level world": "level, stays",
    "level vehicle": "level, rides", "level travel": "level, ahead", "level free": "level, turned",
}  # fmt: skip


class Ways(Question):
    """``ask`` has something done beside the window, for a shot that is still in view then, unless something else is; ``changed``: there is
    more to show."""

    def __init__(self, desk: Desk, ask: Callable[[str, tuple[object, ...], Callable[[Any], object], str], bool], changed: Callable[[], None]) -> None:
        self.desk, self._ask, self._changed = desk, ask, changed
        self.looping = Looping(desk)
        self._tried: dict[str, tuple[Way, ...]] = {}
        self._matters: Matters = "calm"
        self._round = False
        self.matters = Choice([("calm", "calm"), ("picture", "picture"), ("resolution", "resolution")], "calm")
        self.matters.setToolTip("What matters most")
        self.matters.chosen.connect(self._matter)
        self.compare, self.beside = act("Try every way", self._compare), act("Play them beside each other", self._play, False)
        self.table = Table("Left of it, as delivered", (0.22, 0.36, 0.13, 0.15, 0.14), 4, rest="and")
        super().__init__("Which way is best here?", self.matters, self.compare, self.beside)

    def _matter(self, what: Matters) -> None:
        self._matters = what
        self._changed()

    def _shown(self, shot: Shot) -> tuple[FileFacts, Route, Seen | None, NDArray[np.float32]] | None:
        """What is made of it and looked at again, its proxy while the job works on proxies, and how that moves; None: nobody has measured it."""
        rows, (facts, route, seen) = self.desk.moved_rows(shot), self.desk.shown(shot)
        if rows is None or self._round:
            return None if rows is None else (facts, route, seen, rows)
        return facts, route, seen, enlarged(rows, facts.raster[0] / shot.facts.raster[0])

    def _compare(self) -> None:
        """Every way is made and looked at again, as delivered."""
        shot = self.desk.shot
        shown = self._shown(shot) if shot is not None else None
        if shot is None or shown is None:
            return

        def keep(found: tuple[object, tuple[Way, ...]]) -> None:
            self._tried[shot.facts.fingerprint] = found[1]
            self._changed()

        facts, route, seen, rows = shown
        times = shot.facts.raster[0] / facts.raster[0]
        args = (facts, seen, route, self.desk.card_of(shot), route.steady.budget or 0.08, rows, times)
        if self._ask("ways", args, keep, "They could not be compared."):
            self.compare.setText("Trying every way…")

    def done(self) -> None:
        """Nothing is under way any more."""
        self.compare.setText("Try every way")

    def _play(self) -> None:
        """The same moment held in every way, round and round; pressed again, it is put away."""
        shot = self.desk.shot
        shown = self._shown(shot) if shot is not None else None
        if shot is None or shown is None:
            return
        if self.looping.plays:
            self.looping.put_away()
            self._show_play()
            return
        facts, route, seen, rows = shown
        changes = [c | {"budget": route.steady.budget or 0.08} for c in (STANDS if self._round else METHODS)]
        names = [NAMES[f"{c['method']} {c.get('heading', '')}".strip()] for c in changes]
        args = (facts, seen, route, self.desk.card_of(shot), rows, changes, self.desk.frame, SECONDS, FIT[4])
        self.looping.ask("ways looped", args, names, self._show_play)
        self.beside.setText("Making them…")

    def _show_play(self) -> None:
        self.beside.setText("Put them away" if self.looping.plays else "Play them beside each other")

    def show_ways(self, shot: Shot, found: Shake | Turned | None) -> None:
        ways, self._round = self._tried.get(shot.facts.fingerprint, ()), isinstance(found, Turned)
        self.setVisible(found is not None)
        self.table.setVisible(bool(ways) and found is not None)
        self.matters.setVisible(bool(ways) and not self._round)
        self._show_play()
        if not ways:
            self.say("Each is made, and the delivered picture followed again: nothing that was reckoned is believed.")
            return
        self.table.title = f"Left of it, {'degrees' if self._round else 'px'}, as delivered"
        self.table.show_rows(_rows(ways, self._round))
        chosen, why = best(ways, isinstance(found, Shake) and found.widest < 0.05 * shot.facts.raster[0], self._matters)
        if chosen is not None:
            why = f"{_name(chosen)}: {why[:1].lower()}{why[1:]}"
        self.say(why[:1].upper() + why[1:])


def _rows(ways: tuple[Way, ...], round_: bool) -> list[tuple[str, ...]]:
    thing = any(w.offset is not None for w in ways)
    also = "horizon" if round_ else "thing" if thing else "wobble"
    rows: list[tuple[str, ...]] = [("", "to ½ · 3 · ∞ Hz", "roll", also, "turns" if round_ else "keeps")]
    for way in ways:
        last = f"{way.fastest or 0:.0f}°/s" if round_ else f"{way.kept:.0%}"
        more = way.horizon if round_ else way.offset if thing else way.wobble
        said = "" if more is None else f"{more:.2f}{'°' if round_ else ''}"
        left = " · ".join(f"{v:.2f}".lstrip("0") if v < 1 else f"{v:.1f}" if v < 10 else f"{v:.0f}" for v in way.left)
        row = (left, f"{way.roll:.2f}°", said, last) if not way.why else (way.why, "", "", "")
        rows.append((_name(way), *row))
    return rows


def _name(way: Way) -> str:
    return NAMES[f"{way.method} {way.heading}".strip()]
