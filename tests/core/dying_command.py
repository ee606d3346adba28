"""A command whose library ends its process: once, if there is no file ``DIED`` yet, or whenever it delivers to ``CARD``."""

import os
import sys
from pathlib import Path

from adzer import __main__ as start
from adzer.cli import main  # noqa: F401 - loaded once, before the processes part
from adzer.core.run import queue  # noqa: F401
from adzer.core.run import render as rendering

died, card, joined, command = Path(sys.argv.pop(1)), sys.argv.pop(1), rendering.join, start.command


def join(plan, order, *more):
    if order.card.title == card or not died.exists():
        died.touch()
        os.kill(os.getpid(), 11)
    return joined(plan, order, *more)


def dying(notes):
    rendering.join = join
    command(notes)


start.command = dying
start.main()
