"""What Read has to say about a recording: contradictions, losses and traps, each with its fix."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

from .. import cards, records
from ..cards import PlayerCard
from ..errors import UnreadableError
from ..finding import Finding, Fix, Level
from ..light import names as colour_cards
from ..media.filenames import called_proxy
from ..media.probe import FileFacts
from ..pace import too_long
from ..picture import Picture
from ..stage import Context
from . import depth, play
from .advise import DISPLAY, Look, conform_text, kind_of, nearest_rate, rate_text
from .kinds import WORDS
from .seen import Seen
from .settings import ReadSettings

SMALLEST = 16
FORMS = {"equirectangular": "an unrolled sphere", "fisheye": "round lenses", "flat": "a flat picture", "one": "one eye",
         "side by side": "two eyes, side by side", "over under": "two eyes, one above the other"}  # fmt: skip
LATE_SHARE = 0.002  # frames doubled or lost beyond that are worth a word


class _Saying(list[Finding]):
    def __call__(self, level: Level, code: str, text: str, fix: Fix | None = None) -> None:
        self.append(Finding(level, code, text, "read", fix))


def findings(
    facts: FileFacts, settings: ReadSettings, context: Context, picture: Picture, look: Look | None
) -> list[Finding]:
    """All of them, most of them only if the footage has been looked at."""
    say = _Saying()
    _file(say, facts)
    _damage(say, facts, settings, context)
    _turn(say, facts, settings, context)
    _master(say, facts, settings)
    _whole(say, facts, settings, context.seen)
    _curve(say, facts, settings, context, picture, look)
    _time(say, facts, settings, context)
    seen: Seen | None = context.seen
    if seen is not None:
        _form(say, facts, settings, picture, seen)
        _depth(say, facts, picture, seen)
        _playing(say, facts, seen)
    return say


def _file(say: _Saying, facts: FileFacts) -> None:
    w, h = facts.raster
    if w < SMALLEST or h < SMALLEST:
        say(
            Level.STOP, "raster-too-small", f"The picture is {w}×{h}; nothing under {SMALLEST} a side can be delivered."
        )
    elif w % 2 or h % 2:
        say(Level.NOTE, "odd-raster",
            f"The raster is {w}×{h}: an odd side. Deliveries are made even; a line of pixels is left at the edge.")  # fmt: skip
    if facts.promised > facts.frames + 1 and not facts.files:
        say(Level.WARN, "cut-off",
            f"The header speaks of {facts.promised} frames, {facts.frames} are there: the file was cut off. Copy it again.")  # fmt: skip
    if facts.cut:
        say(Level.WARN, "cut-off",
            f"{facts.name} ends before its header says that it does: it was cut off after {facts.frames} frames. Copy it again.")  # fmt: skip
    if facts.missing:
        few = ", ".join(map(str, facts.missing[:6])) + (" …" if len(facts.missing) > 6 else "")
        say(Level.WARN, "frames-missing",
            f"{len(facts.missing)} numbers of the sequence are missing: {few}. Copy them from the card again; without them it jumps.")  # fmt: skip


DAMAGE = "damage"  # a measurement: from and up to which frames a recording decodes with errors


def spans_text(spans: Iterable[tuple[int, int]]) -> str:
    """Runs of frames, from and up to which (excluded), in words: ``frames 40–51 and 80``."""
    runs = [str(a) if b == a + 1 else f"{a}–{b - 1}" for a, b in spans]
    few = runs if len(runs) <= 6 else [*runs[:5], f"{len(runs) - 5} more runs"]
    return ("frame " if len(runs) == 1 and "–" not in runs[0] else "frames ") + " and ".join([", ".join(few[:-1]), few[-1]] if len(few) > 1 else few)


def _damage(say: _Saying, facts: FileFacts, settings: ReadSettings, context: Context) -> None:
    """Frames that a render found to decode with errors."""
    if (body := context.measured.get(DAMAGE)) is None:
        return
    where = spans_text(records.from_json(body, tuple[tuple[int, int], ...], f"what was found of {facts.name}"))
    if settings.damage == "stop":
        say(Level.STOP, "damaged-frames",
            f"{facts.name} decodes with errors: {where}. Copy the file from the card again, or use them as they decode.",
            Fix("Use them as they decode", "read", {"damage": "use"}))  # fmt: skip
    else:
        say(Level.NOTE, "damaged-frames", f"{facts.name} decodes with errors: {where}. They are used as they decode.")


def _master(say: _Saying, facts: FileFacts, settings: ReadSettings) -> None:
    """A proxy that nobody's master belongs to yet."""
    if settings.master == "to come":
        say(Level.STOP, "master-to-come",
            f"{facts.name} is a proxy, and its master is still to come. Work on; when the master is there, relink the job from its folder. All "
            "answers stay.")  # fmt: skip
    elif settings.master is None and called_proxy(facts.path):
        say(Level.WARN, "proxy-asked",
            f"{facts.name} is named like a proxy, and no master belongs to it. Is its master still to come? Else it is delivered as it is.",
            Fix("It is a proxy: wait for its master", "read", {"master": "to come"}))  # fmt: skip


def two_pictures_asked(facts: FileFacts, settings: ReadSettings) -> bool:
    """Is it asked what two pictures that play at once are? Nothing else is asked of how many eyes there are then."""
    return facts.beside is not None and not settings.alone and settings.eyes in (None, "one") and settings.projection != "fisheye"


def _whole(say: _Saying, facts: FileFacts, settings: ReadSettings, seen: Seen | None) -> None:
    """An eye, lens or track that would be lost in silence."""
    if settings.alone:
        return
    if facts.beside is not None:
        if two_pictures_asked(facts, settings):
            lenses = seen is not None and len(seen.discs) == 2
            fix = Fix("They are two round lenses", "read", {"projection": "fisheye", "eyes": "one"}) if lenses else None
            whose = f"{facts.name} holds two pictures that play at once" if facts.tracks == 2 else f"{facts.name} was recorded with another file"
            say(Level.STOP, "two-pictures", f"{whose}: two eyes, or two round lenses? Say it, or what is delivered is both, side by side.",
                fix or Fix("They are two eyes", "read", {"eyes": "side by side"}))  # fmt: skip
        return
    if facts.tracks > 1:
        say(Level.STOP, "second-track",
            f"{facts.name} holds {facts.tracks} pictures that play at once, and not all are alike: they cannot be delivered together.",
            Fix("Deliver the first alone", "read", {"alone": True}))  # fmt: skip
    if facts.apart is not None:
        say(Level.STOP, "second-eye",
            f"The other eye lies in {facts.apart.rsplit('/', 1)[-1]}, and is not put together with this one. See on Join if they are in step.",
            Fix("Deliver this eye alone", "read", {"alone": True}))  # fmt: skip


def _turn(say: _Saying, facts: FileFacts, settings: ReadSettings, context: Context) -> None:
    if settings.turn is not None:
        return
    if facts.odd_matrix:
        say(Level.STOP, "odd-matrix",
            f"{facts.name} asks players to {facts.odd_matrix} its picture, which Adzer does not do. Declare how it is to be turned.",
            Fix("Deliver it as it is recorded", "read", {"turn": 0}))  # fmt: skip
    seen: Seen | None = context.seen
    if seen is not None and seen.turn.value and not facts.rotation:
        say(Level.NOTE, "turn-unsure", f"It may have been held upright: {seen.turn.saw}. Look, and turn it if it lies on its side.",
            Fix(f"Turn it by {seen.turn.value}°", "read", {"turn": int(seen.turn.value)}))  # fmt: skip


def _curve(
    say: _Saying, facts: FileFacts, settings: ReadSettings, context: Context, picture: Picture, look: Look | None
) -> None:
    curve = picture.curve
    given = context.given
    fix = Fix(f"Declare {colour_cards.title(given)}", "read", {"curve": given}) if given else None
    if curve is None:
        saw = ""
        if look and look.kind:
            saw = f" It looks like {WORDS[look.kind]}{'' if look.sure else ', though not for sure'}: {look.saw}."
        say(Level.STOP, "curve-unknown",
            f"Nothing says what curve the camera encoded.{saw} Declare it before anything is transformed.", fix)  # fmt: skip
        return
    if facts.floating:
        if curve != "float-log":
            say(Level.STOP, "float-is-light",
                f"Its samples are floating-point numbers, which are light; {colour_cards.title(curve)} is declared. Take them as light, or "
                "write the frames as whole numbers.", Fix("Take them as light", "read", {"curve": None, "applied": None}))  # fmt: skip
        return
    if not (settings.curve or facts.curve or facts.mosaic or settings.applied):
        say(Level.NOTE, "taken-as-display", "Nothing says what it is. In 8 bits and without a sign of log it is taken as BT.709, and its "
            "pixels are left as they are.", Fix("Declare BT.709", "read", {"curve": "bt709"}))  # fmt: skip
    if facts.mosaic:
        return
    held = kind_of(curve, facts.bits)
    if look and look.sure and look.kind != held and settings.applied is None:
        if facts.curve and not settings.curve:
            code = "log-tagged-display" if look.kind == "log" and facts.curve in DISPLAY else "curve-contradicts-tag"
            tail = "" if given else " If it is, declare the curve that this camera records."
            say(Level.WARN, code,
                f"It looks like {WORDS[look.kind or '']} but is tagged {colour_cards.title(facts.curve)}: {look.saw}.{tail}", fix)  # fmt: skip
        elif held == "log" and look.kind == "display":
            say(Level.WARN, "already-transformed",
                f"{colour_cards.title(curve)} is declared, but it looks as if a transform had been applied already: {look.saw}. "
                "A second one would burn it.",
                Fix("Take it as display", "read", {"applied": "display"}))  # fmt: skip
    if (
        look
        and look.sure
        and look.kind == "display"
        and context.usual == "log"
        and not settings.curve
        and settings.applied is None
    ):
        say(Level.WARN, "already-transformed",
            f"Most shots of this camera are log, this one is not: {look.saw}. A transform seems to have been applied already.",
            Fix("Yes, take it as display", "read", {"applied": "display"}))  # fmt: skip
    is_log = held == "log"
    if facts.bits == 8 and (is_log or (look is not None and look.is_log)):
        codes = 20.0
        try:
            if is_log:
                codes = depth.codes_a_stop(colour_cards.curve(curve, 8).encode, 8, picture.range != "full")
        except UnreadableError:
            pass
        noise = context.seen.depth.noise * 219 if context.seen and context.seen.depth else None
        hides = (
            f" Its noise of {noise:.1f} codes {'hides' if noise > 0.5 else 'does not hide'} that."
            if noise is not None
            else ""
        )
        say(Level.WARN, "log-8-bit",
            f"Log in 8 bits: the stop around grey has {codes:.0f} codes, so that smooth skies may show bands.{hides} Grade gently.")  # fmt: skip


def _time(say: _Saying, facts: FileFacts, settings: ReadSettings, context: Context) -> None:
    if not facts.constant_rate and settings.timing == "recorded":
        low, _, high = facts.spacing
        near = nearest_rate(context.job_rate or facts.rate or Fraction(25))
        jumps = too_long(int(facts.duration * near), facts.frames)
        say(
            Level.WARN, "variable-rate",
            f"The frame rate varies: frames are {float(low) * 1000:.1f} to {float(high) * 1000:.1f} ms apart. "
            + ("Its clock jumps. Cut the shot at the jump." if jumps else "Most editing programs drift out of sync with that."),
            None if jumps else Fix(f"Make it even at {rate_text(near)}", "read", {"timing": "even", "even_rate": str(near)}),
        )  # fmt: skip
    elif settings.timing == "even" and settings.even_rate and too_long(int(facts.duration * settings.even_rate), facts.frames):
        say(Level.STOP, "clock-jumps",
            f"Its clock jumps: {facts.frames} recorded frames would become {int(facts.duration * settings.even_rate)}. "
            "Cut the shot at the jump, or keep the recorded times.",
            Fix("As it was recorded", "read", {"timing": "recorded", "even_rate": None}))  # fmt: skip
    rate = settings.even_rate if settings.timing == "even" else facts.rate
    if rate is not None and not Fraction(1, 10) <= rate <= 1000:
        say(Level.STOP, "rate-out-of-range", f"{float(rate):g} frames a second cannot be.",
            Fix("As it was recorded", "read", {"timing": "recorded", "even_rate": None}))  # fmt: skip
    elif rate is None:
        say(Level.STOP, "no-rate", "The file has no usable frame rate.",
            Fix("Make it even at 25", "read", {"timing": "even", "even_rate": "25"}))  # fmt: skip
    elif context.job_rate and rate != context.job_rate and (facts.constant_rate or settings.timing == "even"):
        say(
            Level.WARN, "rate-differs",
            f"It runs at {rate_text(rate)} and the job at {rate_text(context.job_rate)}: "
            f"{conform_text(rate, context.job_rate, facts.duration)}.",
            Fix(f"Keep its speed at {rate_text(context.job_rate)}", "read", {"timing": "even", "even_rate": str(context.job_rate)}),
        )  # fmt: skip
    rhythm = context.seen.rhythm if context.seen else None
    one_field = Fix("Use one field of each frame", "read", {"fields": "one"})
    if facts.interlaced and settings.fields is None:
        say(Level.STOP, "interlaced", "It is recorded interlaced: its lines belong to two moments, and moving edges would show combs. "
            "Use one field of each frame, or answer that both are wanted.", one_field)  # fmt: skip
    if rhythm is None:
        return
    if rhythm.late:
        say(Level.WARN, "frames-dropped",
            f"{rhythm.lost} {'frame is' if rhythm.lost == 1 else 'frames are'} missing, the first after frame {rhythm.late[0]}: "
            "the camera or its card did not keep up. Motion jumps there.")  # fmt: skip
    if rhythm.doubled > LATE_SHARE and not rhythm.late:
        say(Level.WARN, "frames-doubled",
            f"{rhythm.doubled:.0%} of {rhythm.run} frames in a row repeat the one before: it was recorded slower than it runs.")  # fmt: skip
    if rhythm.interlaced and not facts.interlaced and not facts.mosaic and settings.fields is None:
        say(Level.WARN, "interlaced",
            f"Its lines belong to two moments (lines differ {rhythm.comb:.1f} times as much as fields do): it is interlaced. "
            "Moving edges will show combs.", one_field)  # fmt: skip


def _form(say: _Saying, facts: FileFacts, settings: ReadSettings, picture: Picture, seen: Seen) -> None:
    for field, words in (
        ("projection", "projection"),
        ("eyes", "eyes"),
        ("first", "first eye"),
        ("coverage", "coverage"),
    ):
        if two_pictures_asked(facts, settings):
            break
        guess, held, declared = getattr(seen, field), getattr(picture, field), getattr(settings, field)
        tag = {"projection": facts.sphere and facts.sphere.projection, "eyes": facts.sphere and facts.sphere.eyes,
               "first": facts.sphere and facts.sphere.first, "coverage": facts.sphere and facts.sphere.coverage}[field]  # fmt: skip
        whole = {field: guess.value} | ({"coverage": seen.coverage.value} if field == "projection" and seen.coverage.value else {})
        if guess.sure and held is not None and guess.value != held and (declared or tag):
            label = f"{words} {guess.value}" if field != "projection" else str(guess.value)
            said = "declared" if declared else "tagged"
            say(Level.WARN, f"{field}-contradicts",
                f"For the {words} “{held}” is {said}, but the footage looks {guess.value}: {guess.saw}.",
                Fix(f"Declare {label}", "read", {field: guess.value}))  # fmt: skip
        elif guess.sure and guess.value != held and not declared and not tag and field in ("projection", "eyes"):
            say(Level.STOP, f"{field}-asked",
                f"It looks like {FORMS[str(guess.value)]} ({guess.confidence:.0%} sure) and nothing says so: {guess.saw}. Say what it is.",
                Fix(f"It is {FORMS[str(guess.value)]}", "read", whole))  # fmt: skip
        elif guess.sure or guess.confidence < 0.5 or guess.value in (None, held) or declared or tag:
            continue
        elif field in ("projection", "eyes"):
            say(Level.WARN, f"{field}-unsure",
                f"Is it {FORMS[str(guess.value)]}? {guess.saw} ({guess.confidence:.0%} sure). Until you say, it is taken as {FORMS[str(held)]}.",
                Fix(f"It is {FORMS[str(guess.value)]}", "read", whole))  # fmt: skip
        else:
            say(Level.NOTE, f"{field}-unsure", f"The {words} may be {guess.value} ({guess.confidence:.0%} sure): {guess.saw}.",
                Fix(f"Declare {guess.value}", "read", {field: guess.value}))  # fmt: skip
    if picture.eyes not in (None, "one") and not picture.first:
        say(Level.WARN, "first-eye-unknown",
            f"Nothing says which eye is first. {seen.first.saw[:1].upper() + seen.first.saw[1:]}. Look and decide: the wrong order hurts.",
            Fix(f"{(seen.first.value or 'left').capitalize()} eye first", "read", {"first": seen.first.value or "left"}))  # fmt: skip
    if seen.discs:
        pass  # what is dark around round lenses says nothing of the range
    elif seen.range.sure and facts.range and seen.range.value != facts.range and not settings.range:
        say(Level.WARN, "range-contradicts", f"It is tagged {facts.range} range, but {seen.range.saw}.",
            Fix(f"Declare {seen.range.value} range", "read", {"range": seen.range.value}))  # fmt: skip
    elif seen.range.sure and not facts.range and not settings.range and seen.range.value != picture.range:
        say(Level.WARN, "range-untagged", f"No tag says the range; {seen.range.saw}.",
            Fix(f"Declare {seen.range.value} range", "read", {"range": seen.range.value}))  # fmt: skip


def _depth(say: _Saying, facts: FileFacts, picture: Picture, seen: Seen) -> None:
    d = seen.depth
    if d is None:
        return
    if d.real_bits < d.bits:
        say(Level.NOTE, "fewer-bits", f"It is a {d.bits}-bit file, but only {d.real_bits} bits are used.")
    worst = max(d.high)
    if worst > 0.002:
        names = ", ".join(f"{n} {v:.1%}" for n, v in zip(("red", "green", "blue"), d.high, strict=True) if v > 5e-4)
        say(
            Level.NOTE,
            "clipped",
            f"Cut off at the top when it was recorded: {names} of the picture. No grade brings that back.",
        )


def _playing(say: _Saying, facts: FileFacts, seen: Seen) -> None:
    if seen.play and not seen.play.keeps_up(facts.rate):
        say(Level.WARN, "plays-slowly",
            f"This machine decodes {seen.play.rate:.0f} frames a second of it and it runs at {rate_text(facts.rate)}; "
            f"a jump takes {seen.play.seek_ms:.0f} ms. Make a proxy (P), or an intermediate.")  # fmt: skip
    if facts.mosaic or facts.files and facts.codec in ("tiff", "dpx", "exr"):
        return
    try:
        card = cards.find("players", "desktop", PlayerCard)
    except UnreadableError:
        return
    why = play.judge(facts, card)
    if why:
        say(Level.NOTE, "no-hardware-decoder",
            f"{play.codec_title(facts)} has no hardware decoder on {card.title}: {why}. A proxy will play anywhere.")  # fmt: skip
