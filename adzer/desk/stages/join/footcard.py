"""What covers the foot of a sphere."""

from __future__ import annotations

from pathlib import Path

from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.join import foot
from ....core.join.settings import Foot
from ....core.media.clock import clock_of
from ....core.records import to_plain
from ....core.route import Walk
from ... import choosers
from ...model import Desk
from ...widgets.questions import Number, Numbers, Question, act

USUAL = 25.0  # degrees round straight down


class FootCard(Question):
    """The stand, or whoever held the camera, is covered by another moment or by a picture."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.reach = Number(USUAL, 1.0, 3.0, 80.0, 0)
        self.reach.drafted.connect(self._reach)
        self.reach.settled.connect(lambda _: desk.commit())
        self.here = act("Cover it with what is there on this frame", self._here, False)
        self.picture = act("Cover it with a picture…", self._picture, False)
        self.plain = act("Leave it as it was recorded", lambda: desk.answer("join", foot=None), False)
        super().__init__("What stands under the camera?", Numbers(("degrees round straight down", self.reach)), self.here, self.picture, self.plain)

    def _held(self) -> Foot | None:
        return self.desk.route_of(self.desk.shot).join.foot if self.desk.shot is not None else None

    def _reach(self, degrees: float) -> None:
        held = self._held()
        if held is not None:
            self.desk.draft("join", foot=to_plain(held) | {"reach": degrees})

    def _here(self) -> None:
        shot = self.desk.shot
        if shot is not None:
            at = round(clock_of(shot.facts).time(self.desk.frame), 3)
            self.desk.answer("join", foot=to_plain(Foot(self.reach.value, at)))

    def _picture(self) -> None:
        file = choosers.file(None, "A picture for the foot", "Pictures (*.png *.tif *.tiff *.webp *.jpg)")
        if file:
            self.take(file)

    def take(self, file: str) -> None:
        try:
            self.desk.answer("join", foot=to_plain(foot.of_picture(file, self.reach.value)))
        except AdzerError as fault:
            self.desk.said.emit(str(fault))

    def refresh(self, shot: Shot, walked: Walk) -> None:
        picture, held = walked["join"].before, walked.route.join.foot
        self.setVisible(picture.projection in ("equirectangular", "fisheye") and picture.eyes in (None, "one"))
        self.plain.setVisible(held is not None)
        self.reach.set_value(held.reach if held is not None else USUAL)
        if held is None:
            self.say("It is delivered as it was recorded. Go to a frame on which nobody and nothing stands there, or take a picture of your own.")
        elif held.file is not None:
            self.say(f"{Path(held.file).name} covers it, its upper edge ahead; it was not recorded, and the findings say so.")
        else:
            self.say(f"What was there at {held.at:.1f} s covers it all the time. That is right while the camera stands still.")
