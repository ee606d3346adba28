"""Starting the desk."""

from __future__ import annotations

import gc
import sys
from pathlib import Path

from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from ..core.errors import AdzerError
from ..core.job import Job
from ..core.sim.demo import demo_job
from . import remembered
from .model import Desk
from .startview import StartPage
from .theme import ICONS, font, load_fonts, theme
from .window import Window


def application() -> QApplication:
    """The one application object, with our fonts and icon."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        QApplication.setApplicationName("Adzer")
        QApplication.setDesktopFileName("adzer")
        app = QApplication(sys.argv[:1])
    gc.set_threshold(20_000, 20, 50)  # a sweep over thousands of shots would be felt in the window
    app.setStyle("Fusion")
    load_fonts()
    app.setFont(font())
    app.setWindowIcon(QIcon(str(ICONS / "adzer.svg")))
    return app


class Desktop:
    """The windows: one a job, and the start page while there is none."""

    def __init__(self) -> None:
        self.app = application()
        theme.dim = remembered.load().dim
        self.windows: list[Window] = []
        self.start: StartPage | None = None

    def begin(self) -> None:
        """The start page."""
        self.start = StartPage()
        self.start.wanted.connect(self._wanted)
        self.start.begun.connect(self._begun)
        self.start.demo.connect(lambda: self._wanted(str(demo_job(look=False))))
        self.start.show()

    def open(self, path: Path) -> Window:
        """A job in a window of its own. AdzerError if it is no job, or is not there."""
        for window in self.windows:
            if window.isVisible() and window.desk.job.path == path.absolute():
                window.activateWindow()
                return window
        window = Window(Desk(Job.open(path.absolute())))
        window.wanted.connect(self._wanted)
        window.begun.connect(self._begun)
        self.windows = [w for w in self.windows if w.isVisible()] + [window]
        remembered.place(window)
        window.closing.connect(lambda: remembered.leave(window, theme.dim))
        window.show()
        window.reading.look_at_the_rest()
        if self.start is not None:
            self.start.close()
            self.start = None
        return window

    def _wanted(self, path: str) -> None:
        try:
            self.open(Path(path))
        except AdzerError as error:
            self._say(str(error))

    def _begun(self, path: str) -> None:
        """A new job, or the one that lies there already: it is never overwritten."""
        try:
            if not Path(path).exists():
                Job.create(Path(path), Path(path).stem).close()
        except AdzerError as error:
            self._say(str(error))
        else:
            self._wanted(path)

    def _say(self, text: str) -> None:
        shown = [w for w in self.windows if w.isVisible()]
        if shown:
            next((w for w in shown if w.isActiveWindow()), shown[-1]).say(text)
        elif self.start is not None:
            self.start.say(text)

    def fault(self, kind: type[BaseException], error: BaseException, trace: object) -> None:
        """An expected fault that nobody caught is said in the window; anything else too, and to standard error."""
        self._say(
            str(error) if isinstance(error, AdzerError) else f"Something went wrong inside: {error!r}. Nothing is lost."
        )
        if not isinstance(error, AdzerError):
            sys.__excepthook__(kind, error, None)


def run(path: Path | None) -> int:
    """Opens the job in a window, or the start page, and returns the exit code. UnreadableError if it is no job."""
    desktop = Desktop()
    if path is None:
        desktop.begin()
    else:
        desktop.open(path)
    sys.excepthook = desktop.fault
    return desktop.app.exec()
