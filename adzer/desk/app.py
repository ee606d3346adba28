"""Starting the desk."""

from __future__ import annotations

import gc
import sys
from pathlib import Path

from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from ..core.errors import AdzerError
from ..core.job import Job
from .model import Desk
from .theme import ICONS, font, load_fonts
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


def run(path: Path) -> int:
    """Opens the job in a window and returns the exit code. UnreadableError if it is no job."""
    job = Job.open(path)
    app = application()
    window = Window(Desk(job))
    window.show()

    def fault(kind: type[BaseException], error: BaseException, trace: object) -> None:
        """An expected fault that nobody caught is said in the window; anything else too, and to standard error."""
        window.say(
            str(error) if isinstance(error, AdzerError) else f"Something went wrong inside: {error!r}. Nothing is lost."
        )
        if not isinstance(error, AdzerError):
            sys.__excepthook__(kind, error, None)

    sys.excepthook = fault
    return app.exec()
