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
    """Keep both signals from every thread but the one that waits for them, so that no library acts on them first
    (Polars hears INT even where a parent has it ignored, as nohup does, and aborts its workers).
    """
    both = {signal.SIGINT, signal.SIGTERM}
    heard = {number for number in both if signal.getsignal(number) is not signal.SIG_IGN}
    signal.pthread_sigmask(signal.SIG_BLOCK, both)
    _thread.start_new_thread(_stop_on, (heard,))


def _stop_on(heard: set[signal.Signals]) -> None:
    """Wait for a signal, and end the program for it: outputs that are half written go, and processes of its own."""
    if not heard:
        return
    number = signal.sigwait(heard)
    whole_files = sys.modules.get("neat_delta.files.whole")
    try:
        for child in list(getattr(whole_files, "RUNNING", ())):
            child.kill()
        remove = getattr(whole_files, "remove_unfinished", None)
        if remove is not None:
            remove()
        cursor = b"\r\x1b[K\x1b[?25h" if os.isatty(2) else b""
        os.write(2, cursor + b"Stopped. Nothing is half written, and no input was changed.\n")
    finally:
        os._exit(128 + number)


def _keep_no_memory() -> None:
    """Let Polars' allocator, which asks when it loads, give back at once what is freed. It takes a tenth more time."""
    if any(word.partition("=")[0] == "--memory" for word in sys.argv):
        os.environ.setdefault("_RJEM_MALLOC_CONF", "dirty_decay_ms:0,muzzy_decay_ms:0")


if "__mp_main__" not in sys.modules:  # a worker imports the main module of the program that began it, and ends with it
    _listen()
_keep_no_memory()


def main() -> NoReturn:
    """Run the command line and exit."""
    from neat_delta.cli.main import main as run

    run()
