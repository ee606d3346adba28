"""What tests of the window share: the application, and a window over a copy of the demo job."""

from __future__ import annotations

import contextlib
import shutil
import sqlite3

import pytest

from adzer.core.job import Job
from adzer.core.sim.demo import demo_job
from adzer.desk import workers
from adzer.desk.app import application
from adzer.desk.model import Desk
from adzer.desk.theme import theme
from adzer.desk.window import Window

from .loaded import Loaded


@pytest.fixture(scope="session", autouse=True)
def service(own_home):
    """Windows get their service from one process that has loaded it; that it starts by itself, too, ``test_window`` tries."""
    loaded, alone = Loaded(), workers.start
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workers, "start", loaded.split)
        yield alone
    loaded.close()


@pytest.fixture(scope="session")
def qapp():
    return application()


@pytest.fixture(scope="session")
def made(tmp_path_factory):
    """The demo job, looked at once."""
    folder = tmp_path_factory.mktemp("demo")
    demo_job(folder)
    return folder


def _moved(job, old, new):
    """Makes a copied job speak of the clips beside it, as if it had been made there."""
    with contextlib.closing(sqlite3.connect(job)) as db, db:
        for (table,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            for _, column, *_ in db.execute(f"PRAGMA table_info({table})").fetchall():
                held = f"typeof({column}) = 'text' AND instr({column}, ?)"
                db.execute(f"UPDATE {table} SET {column} = replace({column}, ?, ?) WHERE {held}", (old, new, old))


@pytest.fixture
def path(made, tmp_path):
    """The demo job of a test's own."""
    home = tmp_path / "home"
    shutil.copytree(made, home)
    path = next(home.glob("*.adzer"))
    _moved(path, str(made), str(home))
    return path


@pytest.fixture
def window(qapp, path):
    window = Window(Desk(Job.open(path)))
    window.show()
    qapp.processEvents()
    yield window
    theme.dim = False
    window.close()
    window.deleteLater()
