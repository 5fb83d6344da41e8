"""What a worker of the tests loads before it begins (`dask worker --preload`). It does as files in a folder say, which
the variable NEAT_DELTA_FAULTS names, as it reads files: `die-7` kills whoever reads after seven reads by any of them,
`fail-7` has that read fail; `every-die` and `every-fail` do so each time, and `every-wait` makes each take long.
"""

from __future__ import annotations

import errno
import os
import time
from pathlib import Path

import neat_delta

WAS = os.pread
FOLDER = Path(os.environ["NEAT_DELTA_FAULTS"])


def die() -> None:
    """The worker is gone, as if it was killed."""
    os._exit(9)


def fail() -> None:
    """The storage does not answer, this once."""
    raise OSError(errno.EIO, os.strerror(errno.EIO))


def wait() -> None:
    """The worker is slow."""
    time.sleep(0.2)


FAULTS = {"die": die, "fail": fail, "wait": wait}


def with_faults(handle: int, size: int, start: int) -> bytes:
    """Read a part of a file, and do what is asked for."""
    for order in sorted(FOLDER.iterdir()):
        what, _, reads = order.name.removeprefix("every-").partition("-")
        try:
            if reads == "0":
                order.unlink()
            elif reads:
                order.rename(order.with_name(f"{what}-{int(reads) - 1}"))
        except FileNotFoundError:  # another worker did it
            continue
        if reads in ("", "0"):
            FAULTS[what]()
    return WAS(handle, size, start)


def dask_setup(worker: object) -> None:
    """As Dask calls what is loaded before a worker begins."""
    del worker
    if os.environ.get("NEAT_DELTA_OTHER_VERSION"):
        neat_delta.__version__ = os.environ["NEAT_DELTA_OTHER_VERSION"]
    else:
        os.pread = with_faults
