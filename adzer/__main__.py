"""``adzer …``: runs the command line in a process of its own and waits for it.

A library that decodes or encodes can end its process by a fault that no ``except`` sees. Here that becomes a sentence, and a command
that renders what is queued starts again: it goes on after its last finished segment, and a render that ends its process each time
is given up by the queue. Nothing heavy is imported before the fork.
"""

from __future__ import annotations

import ctypes
import os
import signal
import sys

FAULTS = (signal.SIGSEGV, signal.SIGBUS, signal.SIGILL, signal.SIGFPE, signal.SIGABRT)
PASSED_ON = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
GOES_ON = ("render", "proxy")
STARTS = 12
PR_SET_PDEATHSIG = 1  # prctl(2): the signal that a process gets when its parent ends


def command(notes: int) -> None:
    """``notes``: a file in memory, the same for each start of one command."""
    from adzer.cli import terminal
    from adzer.cli.main import main

    terminal.notes = notes
    main()


def main() -> None:
    """Runs the command; its exit code is this process's, and a signal that ends it is said."""
    named = next((word for word in sys.argv[1:] if not word.startswith("-")), "")
    notes, starts = os.memfd_create("adzer"), STARTS if named in GOES_ON else 1
    for left in reversed(range(starts)):
        code = _started(notes)
        if -code not in FAULTS:
            break
        if left:
            _say(f"a library that decodes or encodes ended the render (signal {-code}). It goes on after the last finished segment.")
    if code >= 0:
        sys.exit(code)
    if -code in FAULTS:
        _say(f"a library that decodes or encodes ended the command (signal {-code}); no file was replaced. Try once more. If it ends again, "
             "the recording is damaged in a way that the library cannot read, or the codec fails here: choose another delivery.")  # fmt: skip
        sys.exit(1)
    if -code == signal.SIGKILL:
        _say("the command was ended from outside, perhaps because memory ran out. What was finished is kept; run it again to go on.")
    else:
        signal.signal(-code, signal.SIG_DFL)
    os.kill(os.getpid(), -code)


def _started(notes: int) -> int:
    """Exit code of the command in a child, which ends when this process does."""
    parent, before = os.getpid(), signal.pthread_sigmask(signal.SIG_BLOCK, (*PASSED_ON, signal.SIGCHLD))
    child = os.fork()
    if child == 0:
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
        if os.getppid() != parent:  # it ended before it could be said that we end with it
            os._exit(1)
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
        command(notes)
        sys.exit()
    code = _waited(child)
    signal.pthread_sigmask(signal.SIG_SETMASK, before)
    return code


def _waited(child: int) -> int:
    """Exit code of a child, negative for a signal. What somebody sends to this process goes to the child; what a terminal sends
    to both has reached it already."""
    while True:
        if (held := signal.sigtimedwait((*PASSED_ON, signal.SIGCHLD), 1.0)) is not None and held.si_signo != signal.SIGCHLD and held.si_code <= 0:
            os.kill(child, held.si_signo)
        ended, status = os.waitpid(child, os.WNOHANG)
        if ended:
            return os.waitstatus_to_exitcode(status)


def _say(text: str) -> None:
    print(f"adzer: {text}", file=sys.stderr, flush=True)


if __name__ == "__main__":
    main()
