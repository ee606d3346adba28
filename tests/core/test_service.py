"""The picture service: previews are the compiled plan, newest wins, and faults come back as sentences."""

from __future__ import annotations

import threading
from dataclasses import replace
from fractions import Fraction
from multiprocessing import Pipe

import numpy as np
import pytest

from adzer.core.cards import delivery
from adzer.core.compile import pixel_plan, preview_plan
from adzer.core.errors import AdzerError
from adzer.core.intake.take import read_file
from adzer.core.media.decode import Reader
from adzer.core.route import Route, walk
from adzer.core.run import reference
from adzer.core.run.service import Chore, Pictures, Picturing, Reply, Service, do_chore

SCOPE = Route().with_("read", curve="fen-log").with_("shape", squeeze="8/5", shape="239/100")


@pytest.fixture(scope="module")
def scope(scope_clip):
    return read_file(scope_clip)


@pytest.fixture(scope="module")
def pictures():
    made = Pictures()
    yield made
    made.close()


def ask(scope, route=SCOPE, **changes):
    facts, seen = scope
    given = dict(
        key="main",
        generation=1,
        facts=facts,
        seen=seen,
        route=route,
        card="native-wide",
        number=10,
        size=(480, 300),
    )
    return Picturing(**(given | changes))


def bgr(image):
    return np.frombuffer(image.data, np.uint8).reshape(image.height, image.width, 4)[..., :3]


def test_a_preview_is_the_delivered_picture_made_smaller(scope, pictures, scope_clip):
    """The preview's pixels against the reference of the full-size plan, averaged down."""
    facts, seen = scope
    reply = pictures.make(ask(scope))
    walked = walk(SCOPE, facts, seen, delivery("native-wide"))
    full = pixel_plan(walked)
    with Reader(scope_clip) as reader:
        frame = reader.frame(10)
        codes = reference.delivered_444(full, full.panels[0], [tuple(frame.cropped(i) for i in range(3))])
    k = full.panels[0].size[0] // reply.after.width
    assert k == 3
    h, w = reply.after.height * k, reply.after.width * k
    small = codes[:h, :w].reshape(reply.after.height, k, reply.after.width, k, 3).mean(axis=(1, 3))
    signal = small @ full.target.to_signal()[:, :3].T + full.target.to_signal()[:, 3]
    expected = np.clip(signal, 0, 1) * 255
    off = np.abs(bgr(reply.after)[..., ::-1].astype(float) - expected)
    assert np.median(off) < 1.5 and np.quantile(off, 0.9) < 8


def test_the_preview_plan_only_changes_the_raster(scope):
    facts, seen = scope
    walked = walk(SCOPE, facts, seen, delivery("web-wide"))
    full, small = pixel_plan(walked), preview_plan(walked, 320, 180)
    assert small.chain is full.chain and small.source == full.source
    assert small.raster[0] <= 320 and small.raster[1] <= 180
    looks = small.panels[0].look, full.panels[0].look
    for i in (0, 1):
        assert looks[0].scale[i] * looks[0].size[i] == looks[1].scale[i] * looks[1].size[i]
    assert looks[0].offset == looks[1].offset
    assert preview_plan(walked, 9000, 9000) == replace(full, target=preview_plan(walked, 9000, 9000).target)


def test_before_after_and_whole(scope, pictures):
    both = pictures.make(ask(scope, before=True))
    assert (both.before.width, both.before.height) == (both.after.width, both.after.height)
    assert bgr(both.before).astype(float).std() < bgr(both.after).astype(float).std()
    whole = pictures.make(ask(scope, whole=True))
    assert whole.after.width / whole.after.height == pytest.approx(1440 / 675, rel=0.01)
    stopped = pictures.make(ask(scope, route=SCOPE.with_("read", curve="gone")))
    assert stopped.after is None and stopped.before is not None


def test_scopes_count_the_delivered_pixels_without_the_bars(scope, pictures):
    reply = pictures.make(ask(scope, card="web-wide", scopes=True))
    s = reply.scopes
    picture = (480, 200)
    assert abs(s.histogram.sum() - picture[0] * picture[1]) < 2000 and s.histogram.sum() == s.wave.sum()
    assert s.histogram[:60].sum() / s.histogram.sum() < 0.01  # no bars among them
    bright = pictures.make(
        ask(scope, card="web-wide", scopes=True, route=SCOPE.with_("colour", exposure=3.0, whites="let go"))
    ).scopes
    assert bright.over > 0.3 > s.over
    rows = np.arange(s.wave.shape[0])
    assert (bright.wave * rows[:, None]).sum() / bright.wave.sum() > (s.wave * rows[:, None]).sum() / s.wave.sum()


def test_changed_answers_change_the_picture_and_same_ones_do_not(scope, pictures):
    a, b = (bgr(pictures.make(ask(scope, generation=n)).after) for n in (1, 2))
    assert np.array_equal(a, b)
    c = bgr(pictures.make(ask(scope, route=SCOPE.with_("colour", exposure=1.0))).after)
    assert c.mean() > a.mean() + 10


@pytest.fixture
def service():
    mine, theirs = Pipe()
    thread = threading.Thread(target=Service(theirs).run, daemon=True)
    thread.start()
    yield mine
    mine.close()


def test_the_newest_request_wins(scope, service):
    for n in range(1, 60):
        service.send(ask(scope, generation=n, number=n % 20))
    seen = []
    while not seen or seen[-1] != 59:
        assert service.poll(60)
        seen.append(service.recv().generation)
    assert seen == sorted(seen) and len(seen) < 40


def test_chores_answer_in_order_and_faults_are_sentences(scope, service, tmp_path):
    bad = tmp_path / "bad.mov"
    bad.write_text("x")
    service.send(Chore("1", "take", ([str(bad)], Fraction(25))))
    service.send(Chore("2", "gaps", (scope[0],)))
    service.send(Chore("3", "whistle"))
    service.send(Chore("4", "sources", ([(7, scope[0])],)))
    replies: list[Reply] = []
    while len(replies) < 4:
        assert service.poll(60)
        replies.append(service.recv())
    assert [r.key for r in replies] == ["1", "2", "3", "4"]
    assert replies[0].value[0] == [] and "bad.mov" in replies[0].value[1][0] and "whistle" in replies[2].error
    assert np.allclose(replies[1].value, 40.0) and replies[3].value == {7: None}


def test_a_vanished_file_is_said_in_the_preview(scope, tmp_path, service):
    import msgspec

    gone = msgspec.structs.replace(scope[0], path=str(tmp_path / "gone.mov"), fingerprint="x")
    service.send(ask((gone, scope[1])))
    assert service.poll(60)
    reply = service.recv()
    assert reply.after is None and "gone.mov" in reply.error
    with pytest.raises(AdzerError):
        do_chore(Chore("x", "nothing"))
