"""What tests of the window share: the application, and a window over a copy of the demo job."""

from __future__ import annotations

import shutil

import pytest

from adzer.core.job import Job
from adzer.core.sim.demo import demo_job
from adzer.desk.app import application
from adzer.desk.model import Desk
from adzer.desk.theme import theme
from adzer.desk.window import Window


@pytest.fixture(scope="session")
def qapp():
    return application()


@pytest.fixture(scope="session")
def made(tmp_path_factory):
    """The demo job, looked at once."""
    folder = tmp_path_factory.mktemp("demo")
    demo_job(folder)
    return folder


@pytest.fixture
def window(qapp, made, tmp_path):
    home = tmp_path / "home"
    shutil.copytree(made, home)
    window = Window(Desk(Job.open(next(home.glob("*.adzer")))))
    window.show()
    qapp.processEvents()
    yield window
    theme.dim = False
    window.close()
    window.deleteLater()
