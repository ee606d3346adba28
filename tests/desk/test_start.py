"""The start page, what it knows of jobs, windows of several jobs, and Adzer among a person's programs."""

from __future__ import annotations

import configparser
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from adzer.core import entry, recent
from adzer.core.job import Job
from adzer.desk import startview
from adzer.desk.app import Desktop
from adzer.desk.shots import wait
from adzer.desk.startview import StartPage, when


@pytest.fixture(autouse=True)
def own_data(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))


def test_a_closed_job_stands_first_on_the_start_page_with_its_picture_and_opens_from_there(window, qapp):
    desk = window.desk
    assert wait(lambda: window.thumbs.held(desk.shots[0]) is not None)
    path, shots, stopped = str(desk.job.path), len(desk.shots), sum(desk.walk(s).stopped is not None for s in desk.shots)
    window.close()
    (row,) = recent.jobs()
    assert (row.path, row.shots, row.stopped) == (path, shots, stopped) and row.there
    assert f"{shots} shots" in row.waits and recent.picture(path).stat().st_size > 500
    desktop = Desktop()
    desktop.begin()
    page = desktop.start
    assert [r.row.path for r in page.rows] == [path] and not page.rows[0]._picture.isNull()
    QTest.mouseClick(page.rows[0], Qt.MouseButton.LeftButton)
    assert [w.desk.job.path for w in desktop.windows] == [Path(path)] and not page.isVisible()
    desktop.windows[0].close()


def test_new_and_other_jobs_open_in_windows_of_their_own_and_what_is_no_job_is_said(window, tmp_path, monkeypatch):
    desktop = Desktop()
    window.wanted.connect(desktop._wanted)
    window.begun.connect(desktop._begun)
    desktop.windows.append(window)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "mill"), ""))
    QTest.keyClick(window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    assert [w.desk.job.path.name for w in desktop.windows][1:] == ["mill.adzer"] and (tmp_path / "mill.adzer").exists()
    (tmp_path / "no.adzer").write_text("nothing")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(tmp_path / "no.adzer"), ""))
    window.another_job(startview.ask_open, window.wanted)
    said = [w.note.text() for w in desktop.windows]
    assert len(desktop.windows) == 2 and any("no.adzer" in text for text in said)
    window.wanted.emit(str(tmp_path / "gone.adzer"))  # as of a disk that is not plugged in
    assert not (tmp_path / "gone.adzer").exists() and len(desktop.windows) == 2
    assert any("gone.adzer is not there" in w.note.text() for w in desktop.windows)
    desktop.windows[1].close()
    page = StartPage()
    assert page.rows and page.rows[0].row.waits == "no recordings yet"


def test_the_window_sees_what_another_process_adds_and_takes_back(window, phone_clip):
    desk = window.desk
    before = len(desk.shots)
    with Job.open(desk.job.path) as other:
        shot = other.shots()[0]
        other.describe({shot.id: {"notes": "seen from elsewhere"}}, "words")
    assert wait(lambda: desk.all[shot.id].notes == "seen from elsewhere", 5)
    with Job.open(desk.job.path) as other:
        other.undo()
    assert wait(lambda: desk.all[shot.id].notes != "seen from elsewhere", 5) and len(desk.shots) == before


def test_adzer_is_put_among_the_programs_and_taken_out_again(tmp_path):
    made = entry.install()
    assert len(made) == 3 and all(str(p).startswith(str(tmp_path / "data")) for p in made)
    read = configparser.ConfigParser(interpolation=None)
    read.read(made[0])
    held = read["Desktop Entry"]
    words = shlex.split(held["Exec"].replace("%f", ""))
    assert words == [sys.executable, "-m", "adzer", "open"] and entry.TYPE in held["MimeType"]
    assert subprocess.run([*words[:-1], "--version"], capture_output=True, check=True).stdout.startswith(b"adzer ")
    assert entry.remove() == made and not any(p.exists() for p in made) and entry.remove() == []


def test_days_are_told_as_people_tell_them():
    now = 86400 * 1000.5
    assert [when(now - d * 86400, now) for d in (0, 1, 5, 90)] == ["today", "yesterday", "5 days ago", "3 months ago"]
