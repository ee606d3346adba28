"""Everything that can be done in the window: its words, its keys, where it holds, and what it calls."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from ..core.stage import STAGES
from .belonging import TOGETHER
from .palette import Action
from .startview import ask_new, ask_open
from .vocabulary import BENCHES, bench_words

if TYPE_CHECKING:
    from .window import Window


def actions(window: Window) -> list[Action]:
    """In the order in which they are found by their words."""
    desk, bench = window.desk, window.bench
    every, shots, board, benched = "everywhere", "shots", "board", "bench"
    return [
        Action("add recordings", ("A",), every, window.choose_files),
        Action("add a folder of recordings, where it lies", ("Shift+A",), every, window.choose_folder, "⇧A"),
        Action("get a card home, verified", ("F",), every, lambda: window.go("Intake")),
        Action("find shots on the Board", ("/",), board, window.finder.ask, "/"),
        Action("another order of the Board", ("O",), board, window.finder.next_order),
        Action("keep", ("K",), shots, lambda: desk.judge("keep")),
        Action("drop", ("D",), shots, lambda: desk.judge("drop")),
        Action("words about it: name, scene, camera, notes", ("E",), shots, window.describe),
        Action("new names by a pattern", ("R",), board, window.rename),
        Action("choose all shown rows", ("Ctrl+A",), board, window.choose_all, "^A"),
        Action("files that may belong together, all in one table", (), board, window.ask_belonging),
        *(Action(f"two chosen rows are {words}", (), board, partial(window.reading.belonging.join_rows, kind)) for kind, words in TOGETHER.items()
          if kind != "chapters"),
        Action("same answers for all shots of this camera", ("C",), shots, desk.same_for_camera),
        Action("stabilise: hold the chosen shots, each by what suits it", (), shots, window.many.stabilise),
        Action("denoise the chosen shots, each by its own noise", (), shots, window.many.denoise),
        Action("make spheres of the chosen shots: match, stitch, level, deliver", (), shots, window.many.make_spheres),
        Action("make flat views of the chosen shots, straight from what was recorded", (), shots, window.many.make_flat_views),
        Action("make a proxy, half size", ("P",), shots, lambda: window.reading.make_copies("proxy", "half")),
        Action("make a proxy, quarter size", (), shots, lambda: window.reading.make_copies("proxy", "quarter")),
        Action(
            "make a full-size intermediate", (), shots, lambda: window.reading.make_copies("intermediate", "full")
        ),
        Action("work on proxies, or on masters", ("M",), shots, desk.switch_proxies),
        Action("relink masters and proxies from a folder", (), every, window.choose_relink),
        Action("look at the footage", (), every, window.reading.look_at_the_rest),
        Action("stop looking at the footage", (), every, window.reading.stop),
        Action("measure how these shots shake", (), shots, window.analysing.want_for_rows),
        Action("stop measuring", (), every, window.analysing.stop),
        Action("mark this frame, or take the mark off", ("J",), benched, desk.toggle_mark),
        Action("keyframe of the view or crop here", ("G",), benched, lambda: window.on_shape("set_key")),
        Action("take the keyframe off", ("Shift+G",), benched, lambda: window.on_shape("drop_key"), "⇧G"),
        Action("keyframe before", (",",), benched, lambda: window.on_shape("next_key", -1)),
        Action("keyframe after", (".",), benched, lambda: window.on_shape("next_key", 1)),
        Action("follow a thing with the view or crop", ("Y",), benched, lambda: window.on_shape("follow_thing")),
        Action("outline a round thing", ("B",), benched, lambda: window.on_shape("mark_round")),
        Action("box what must stay in", ("I",), benched, lambda: window.on_shape("mark_keep")),
        Action("show the horizon", ("H",), benched, lambda: window.on_shape("mark_horizon")),
        Action("smooth path with few keyframes", (), benched, lambda: window.on_shape("make_smooth")),
        Action("cut into two takes here", ("X",), benched, lambda: desk.add_take(True)),
        Action("another take of this shot", ("Shift+X",), benched, lambda: desk.add_take(False), "⇧X"),
        Action("next mark", ("Ctrl+Right",), benched, lambda: bench.next_mark(1), "^→"),
        Action("mark before", ("Ctrl+Left",), benched, lambda: bench.next_mark(-1), "^←"),
        Action("unfold the stage", ("Return", "Enter"), board, lambda: desk.unfold(STAGES[desk.column]), "↵"),
        *(Action(bench_words(stage, words), (), shots, partial(desk.unfold, stage)) for stage, (words, _) in BENCHES.items()),
        Action("fold back to the Board, show all shots", ("Esc",), every, window.back),
        Action("previous shot", ("Up",), shots, lambda: desk.select(desk.selected - 1), "↑"),
        Action("next shot", ("Down",), shots, lambda: desk.select(desk.selected + 1), "↓"),
        Action("previous stage", ("[",), shots, lambda: window.step_stage(-1)),
        Action("next stage", ("]",), shots, lambda: window.step_stage(1)),
        Action("left: previous stage, or frame", ("Left",), shots, lambda: window.sideways(-1), "←"),
        Action("right: next stage, or frame", ("Right",), shots, lambda: window.sideways(1), "→"),
        Action("a second back", ("Shift+Left",), benched, lambda: desk.go_to(desk.frame - 25)),
        Action("a second on", ("Shift+Right",), benched, lambda: desk.go_to(desk.frame + 25)),
        Action("play, at reduced size", ("Space",), benched, bench.play),
        Action("set in here", (), benched, lambda: window.take_range(start=desk.frame), "{"),
        Action("set out here", (), benched, lambda: window.take_range(stop=desk.frame + 1), "}"),
        Action(
            "the whole recording again",
            (),
            benched,
            lambda: window.take_range(0, 10**9),
        ),
        Action("compare with the recorded picture by a wipe", ("W",), benched, lambda: bench.compare("wipe")),
        Action("compare side by side", ("Shift+W",), benched, lambda: bench.compare("beside"), "⇧W"),
        Action("compare in turn", ("V",), benched, lambda: bench.compare("turn")),
        Action("how far the two are apart", ("Shift+V",), benched, lambda: bench.compare("apart"), "⇧V"),
        Action("the other of two eyes, or lenses", ("Shift+E",), benched, bench.flip, "⇧E"),
        Action("fold the questions away, or back", ("U",), benched, lambda: bench.fold("column")),
        Action("fold the instruments away, or back", ("S",), benched, lambda: bench.fold("shelf")),
        Action("unfold an instrument, the next, or all", ("Shift+S",), benched, bench.next_wide, "⇧S"),
        Action("main picture and helper change places", ("Z",), benched, bench.swap),
        Action("thirds and other guides on the picture", ("T",), benched, bench.next_guide),
        Action("picture as recorded, while held", (), benched, window.flip_before, "Q"),
        Action("same as the row above", ("Ctrl+D",), shots, desk.fill_down, "^D"),
        Action("next finding", ("N",), every, window.next_finding),
        Action("queue the chosen deliveries", ("Ctrl+Return",), shots, desk.enqueue, "^↵"),
        Action("measure one second", ("Ctrl+M",), shots, desk.measure_trials, "^M"),
        Action("take the shot out of the job", ("Ctrl+Backspace",), shots, desk.remove, "^⌫"),
        Action("give the job this shot's frame rate", (), shots, desk.take_rate),
        Action("trust this job: allow renders that someone else queued", (), every, desk.trust),
        Action("new job", ("Ctrl+N",), every, lambda: window.another_job(ask_new, window.begun), "^N"),
        Action("open a job", ("Ctrl+O",), every, lambda: window.another_job(ask_open, window.wanted), "^O"),
        Action("take back", ("Ctrl+Z",), every, desk.undo, "^Z"),
        Action("do again", ("Ctrl+Shift+Z",), every, desk.redo, "^⇧Z"),
        Action("go to the Board", ("F2",), every, lambda: window.go("Board")),
        Action("go to Intake", ("F5",), every, lambda: window.go("Intake")),
        Action("go to the Queue", ("F3",), every, lambda: window.go("Queue")),
        Action("go to the Log", ("F4",), every, lambda: window.go("Log")),
        Action("lights down, lights up", ("L",), every, window.toggle_lights),
        Action("find an action by its words", ("Ctrl+Space",), every, window.open_words, "^Space"),
        Action("keys of this place", (), every, window.open_keys, "?"),
    ]
