"""What is done to all chosen rows in one go, each by what was measured on it."""

from __future__ import annotations

from ..core.job import Shot
from .alike import Alike, Besides
from .model import Desk

ROUND = ("equirectangular", "fisheye")


class Many:
    """Offers for the chosen rows; what does not suit one of them leaves it as it is, and is said."""

    def __init__(self, desk: Desk, alike: Alike) -> None:
        self.desk, self.alike = desk, alike

    def denoise(self) -> None:
        """Each by its own noise; those that are clean already are told so by what was measured."""
        if rows := self.desk.rows():
            self.alike.want(rows, "develop", {"clean": 1.0}, f"noise off {_shots(rows)}, each by its own")

    def stabilise(self) -> None:
        if rows := self.desk.rows():
            self.alike.want(rows, "steady", {"method": "suits"}, f"{_shots(rows)} held, each by what suits it")

    def make_spheres(self) -> None:
        """Two lenses matched by what both see, a whole sphere of them that stands level, delivered where spheres are shown."""
        if not (rows := self._declared_round()):
            return
        besides: Besides = {"deliver": {"cards": ["web-sphere"]}, "shape": {"view": None}}
        self.alike.want(rows, "join", {"laid": "sphere"}, f"spheres of {_shots(rows)}", besides)
        self.alike.want(rows, "steady", {"method": "level"}, f"{_shots(rows)} stand level")

    def make_flat_views(self) -> None:
        """A flat view ahead of each, straight from what was recorded: no sphere is exported for it."""
        if not (rows := [s for s in self._declared_round() if s.route.shape.view is None]):
            return
        pairs = []
        for shot in rows:
            cards = [c for c in shot.route.deliver.cards if c != "web-sphere"] or ["web-wide"]
            pairs.append((shot, shot.route.with_("shape", view={"shape": "16/9"}).with_("deliver", cards=cards)))
        words = f"flat views of {_shots(rows)}"
        self.desk.record(lambda: self.desk.job.decide_all(pairs, words), [s.id for s in rows])
        self.desk.said.emit(f"Flat views of {_shots(rows)}, straight from what was recorded: no sphere is exported. Ctrl+Z takes that back.")

    def _declared_round(self) -> list[Shot]:
        """The chosen rows that show spheres or round lenses; what is surely seen to, and was not declared, is declared on Read."""
        found, pairs = list[int](), []
        for shot in self.desk.rows():
            read = self.desk.walk(shot)["read"]
            fix = next((f.fix for f in read.findings if f.code == "projection-asked" and f.fix is not None), None)
            if read.after.projection in ROUND or fix is not None:
                found.append(shot.id)
            if fix is not None:
                pairs.append((shot, shot.route.mended(fix)))
        if pairs:
            self.desk.record(lambda: self.desk.job.decide_all(pairs, f"what {_shots([s for s, _ in pairs])} shows"), [s.id for s, _ in pairs])
        if not found:
            self.desk.said.emit("None of these is surely a sphere or round lenses. Say on Read what one picture shows.")
        return [self.desk.all[i] for i in found]


def _shots(rows: list[Shot]) -> str:
    return rows[0].name if len(rows) == 1 else f"{len(rows)} shots"
