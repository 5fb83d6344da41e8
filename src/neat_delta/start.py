"""Where the program starts: whoever stops it (Ctrl-C, TERM) ends it at once, from the first moment on, without a
traceback and with nothing half written.

A thread of its own does that, as the main one may be deep inside of a library, or waiting for a pipe. Nothing is
imported here that takes time.
"""

from __future__ import annotations

import _thread
import os
import signal
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import NoReturn

__all__ = ["main"]


def _listen() -> None:
    heard, said = os.pipe()
    os.set_blocking(said, False)
    for number in (signal.SIGINT, signal.SIGTERM):
        if signal.getsignal(number) is not signal.SIG_IGN:  # as nohup has it
            signal.signal(number, lambda *_: None)
    signal.set_wakeup_fd(said, warn_on_full_buffer=False)
    _thread.start_new_thread(_stop_on, (heard,))


def _stop_on(heard: int) -> NoReturn:
    """Wait for a signal, and end the program for it: outputs that are half written go, and processes of its own."""
    number = 0
    while number not in {signal.SIGINT, signal.SIGTERM}:
        number = os.read(heard, 1)[0]
    whole = sys.modules.get("neat_delta.files.whole")
    try:
        for child in list(getattr(whole, "RUNNING", ())):
            child.kill()
        remove = getattr(whole, "remove_unfinished", None)
        if remove is not None:
            remove()
        cursor = b"\r\x1b[K\x1b[?25h" if os.isatty(2) else b""
        os.write(2, cursor + b"Stopped. Nothing is half written, and no input was changed.\n")
    finally:
        os._exit(128 + number)


_listen()


def main() -> NoReturn:
    """Run the command line and exit."""
    from neat_delta.cli.main import main as run

    run()
