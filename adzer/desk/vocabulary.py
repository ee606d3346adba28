"""What else people call what can be done: words by which an action is found, though Adzer calls it otherwise."""

from __future__ import annotations

# Of each bench: what is done there, and by which words that is looked for.
BENCHES = {
    "read": ("what was recorded: curve, range, turn, eyes", "log gamma color tag metadata rotate interlaced conform timecode"),
    "join": ("lenses and eyes, side by side", "stitch sync stereo 3d vr 360 depth parallax seam calibrate convergence"),
    "develop": ("sensor values, white, noise", "raw dng debayer denoise white balance exposure highlights recovery iso grain banding dead pixels"),
    "steady": ("how it is held", "stabilise stabilize shake rolling shutter horizon gyro flicker tripod lock"),
    "shape": ("squeeze, crop, view, speed", "desqueeze anamorphic reframe zoom scale rotate slow motion ramp lapse resize aspect distortion"),
    "colour": ("exposure, white, look, curve of the delivery", "color grade lut look cdl contrast saturation correction hdr"),
    "deliver": ("cards, codec, size, what lies over it", "bitrate resolution format title caption subtitle watermark logo sound audio upload export"),
}  # fmt: skip


def bench_words(stage: str, words: str) -> str:
    return f"{stage.capitalize()}: {words}"


# An action's words → what else it is looked for by.
ALSO = {
    "add recordings": "import open files clips footage media",
    "add a folder of recordings, where it lies": "import directory media",
    "get a card home, verified": "ingest offload copy backup import checksum",
    "keep": "select pick like good rating",
    "drop": "reject delete bad rating",
    "new names by a pattern": "rename batch",
    "choose all shown rows": "select all",
    "same answers for all shots of this camera": "copy paste settings apply attributes",
    "stabilise: hold the chosen shots, each by what suits it": "stabilize shake warp smooth steady",
    "denoise the chosen shots, each by its own noise": "noise reduction grain clean",
    "make spheres of the chosen shots: match, stitch, level, deliver": "360 vr stitch equirectangular",
    "make flat views of the chosen shots, straight from what was recorded": "360 reframe vr",
    "relink masters and proxies from a folder": "missing offline reconnect locate media",
    "mark this frame, or take the mark off": "marker note flag",
    "keyframe of the view or crop here": "animate reframe pan zoom",
    "follow a thing with the view or crop": "track motion tracking reframe",
    "show the horizon": "level tilt straighten",
    "cut into two takes here": "split razor blade trim",
    "set in here": "trim start mark in point shorten",
    "set out here": "trim end mark out point shorten",
    "same as the row above": "copy paste settings apply attributes",
    "queue the chosen deliveries": "export render transcode encode output make deliver save master",
    "measure one second": "size estimate bitrate time test",
    "take the shot out of the job": "remove delete",
    "take back": "undo revert",
    "do again": "redo repeat",
    "go to the Queue": "export render progress jobs",
    "go to the Log": "history report record",
    "lights down, lights up": "dark mode theme bright night",
} | {bench_words(stage, words): also for stage, (words, also) in BENCHES.items()}
