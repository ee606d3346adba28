"""A route: the settings of the seven stages, and the walk that type-checks them against a recording and a delivery."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import msgspec

from . import cards, records
from .cards import DeliveryCard, delivery
from .colour import step as colour
from .colour.settings import ColourSettings
from .deliver import step as deliver
from .deliver.settings import DeliverSettings
from .develop import step as develop
from .develop.settings import DevelopSettings
from .errors import AdzerError, UnreadableError
from .finding import Finding, Fix, Level
from .join import step as join
from .join.settings import JoinSettings
from .media.probe import FileFacts
from .picture import Picture
from .plan import Draft
from .read import step as read
from .read.seen import Seen
from .read.settings import ReadSettings
from .shape import step as shape
from .shape.settings import ShapeSettings
from .stage import STAGES, Context, Settings, StepResult
from .steady import step as steady
from .steady.settings import SteadySettings

SCHEMA = 1


class Route(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the person decided, stage by stage. Frozen: every change makes a new one."""

    schema: int = SCHEMA
    read: ReadSettings = ReadSettings()
    join: JoinSettings = JoinSettings()
    develop: DevelopSettings = DevelopSettings()
    steady: SteadySettings = SteadySettings()
    shape: ShapeSettings = ShapeSettings()
    colour: ColourSettings = ColourSettings()
    deliver: DeliverSettings = DeliverSettings()

    def with_(self, stage: str, **changes: object) -> Route:
        """This route with some settings of one stage changed; plain values are converted. UnreadableError if unfit."""
        if stage not in STAGES:
            raise AdzerError(f"There is no stage {stage!r}. The stages are {', '.join(STAGES)}.")
        settings = getattr(self, stage)
        plain = records.to_plain(settings) | {k: records.to_plain(v) for k, v in changes.items()}
        new = records.from_plain(plain, type(settings), f"The answer for {stage}")
        return msgspec.structs.replace(self, **{stage: new})

    def mended(self, fix: Fix) -> Route:
        """This route with a finding's fix applied."""
        return self.with_(fix.stage, **fix.answers)


    @property
    def masters(self) -> tuple[tuple[str, Route], ...]:
        """What each delivery card makes of a shot: what is added to its name, and the route; of a pair laid into two files, each eye's."""
        if self.join.laid != "files":
            return (("", self),)
        return tuple((f" {eye}", self.with_("join", laid=eye)) for eye in ("left", "right"))


def carried(settings: Settings) -> dict[str, object]:
    """A stage's answers as they go to another shot; what was marked on this one's pictures, and when, stays with it."""
    own = settings.OWN | {"version"}
    return {name: getattr(settings, name) for name in settings.__struct_fields__ if name not in own}


def load(text: str | bytes, what: str = "This route") -> Route:
    """A route from JSON, older schemas upgraded. UnreadableError if it is newer or broken."""
    plain = records.from_json(text, dict, what)
    schema = plain.get("schema", 0)
    if not isinstance(schema, int) or schema > SCHEMA:
        raise UnreadableError(f"{what} was made by a newer Adzer. Open it with that.")
    return records.from_plain(upgrade(plain, what), Route, what)


def upgrade(plain: dict[str, object], what: str = "This route") -> dict[str, object]:
    """Plain settings of any older schema as ones of this schema. UnreadableError if a stage's are newer."""
    kinds = {stage: type(getattr(Route(), stage)) for stage in STAGES}
    newer = {s: kinds[s].upgraded(plain[s], what) for s in STAGES if isinstance(plain.get(s), dict)}
    return plain | newer | {"schema": SCHEMA}


@dataclass(frozen=True)
class Stop:
    """One stage of a walk: the Picture before and after, and what the step said."""

    stage: str
    before: Picture
    result: StepResult

    @property
    def after(self) -> Picture:
        return self.result.picture

    @property
    def findings(self) -> tuple[Finding, ...]:
        return self.result.findings


@dataclass(frozen=True)
class Walk:
    """A route walked over a recording for one delivery card, and the draft of the render that came of it."""

    stops: tuple[Stop, ...]
    card: DeliveryCard
    route: Route
    draft: Draft = Draft()

    def __getitem__(self, stage: str) -> Stop:
        return self.stops[STAGES.index(stage)]

    @property
    def findings(self) -> list[Finding]:
        return [f for s in self.stops for f in s.findings]

    @property
    def stopped(self) -> Finding | None:
        """The first *stop* finding, if there is one: nothing may be rendered."""
        return next((f for f in self.findings if f.level is Level.STOP), None)


# mypy cannot see that each step takes its own settings type, hence Any.
STEPS: dict[str, Callable[[Picture, Any, Context], StepResult]] = {
    "read": read.step,
    "join": join.step,
    "develop": develop.step,
    "steady": steady.step,
    "shape": shape.step,
    "colour": colour.step,
    "deliver": deliver.step,
}


def walk(
    route: Route, facts: FileFacts, seen: Seen | None = None, card: DeliveryCard | None = None, job_rate: Fraction | None = None,
    problem: Finding | None = None, usual: str | None = None, given: str | None = None,
    measured: Mapping[str, bytes] | None = None, span: tuple[float, float] | None = None,
) -> Walk:  # fmt: skip
    """Takes the recording's Picture through all seven stages. Never raises for a bad setting: it becomes a finding.

    ``span``: seconds of the recording that are delivered, where that is not all of it.
    Without a card it is walked for the first chosen delivery, and what stands in the way of the others is said at Deliver."""
    if card is None:
        made = walk(route, facts, seen, _first_card(route), job_rate, problem, usual, given, measured, span)
        return _with_others(made, lambda other: walk(route, facts, seen, other, job_rate, problem, usual, given, measured, span))
    card = route.deliver.on(card)
    if seen is not None:
        seen = seen.upright(facts.raster, read.turn_of(facts, route.read))
    context = Context(facts, seen, card, job_rate, problem, usual, given, measured=measured or {}, across=route.shape.across, bend=route.shape.bend,
                      span=span)  # fmt: skip
    picture, draft = read.tagged(facts), read.drafted(facts, route.read)
    stops = []
    with cards.settled():
        for stage in STAGES:
            try:
                result = STEPS[stage](picture, getattr(route, stage), replace(context, draft=draft))
            except UnreadableError as error:
                result = StepResult(picture, "?", (Finding(Level.STOP, f"{stage}-card", str(error), stage),))
            stops.append(Stop(stage, picture, result))
            picture, draft = result.picture, result.draft or draft
    return Walk(tuple(stops), card, route, draft)


def span_of(facts: FileFacts, start: int, stop: int) -> tuple[float, float] | None:
    """Seconds of a recording from one frame up to another; None for all of it."""
    if (start, stop) == (0, facts.frames) or not facts.frames:
        return None
    each = float(facts.duration) / facts.frames
    return start * each, stop * each


def _with_others(made: Walk, walk_for: Callable[[DeliveryCard], Walk]) -> Walk:
    """The walk of the first delivery with what the other chosen ones have to say that it has not."""
    names = [n for n in made.route.deliver.cards if delivery_of(n) is not None]
    said, more = {(f.code, f.text) for f in made.findings}, list[Finding]()
    for name in names[1:]:
        card = delivery_of(name)
        for f in walk_for(card).findings if card is not None else ():
            if f.level is not Level.NOTE and (f.code, f.text) not in said:
                said.add((f.code, f.text))
                more.append(msgspec.structs.replace(f, text=f"{card.title[:1].upper()}{card.title[1:]}: {f.text}" if card else f.text))
    if not more:
        return made
    *before, last = made.stops
    result = replace(last.result, findings=(*last.result.findings, *more))
    return replace(made, stops=(*before, replace(last, result=result)))


def delivery_of(name: str) -> DeliveryCard | None:
    """A delivery card; None if there is none of that name, or it cannot be read."""
    try:
        return delivery(name)
    except UnreadableError:
        return None


def _first_card(route: Route) -> DeliveryCard:
    return next((c for n in route.deliver.cards if (c := delivery_of(n)) is not None), None) or delivery("web-wide")
