"""How far a step is, in words: the share, the amount, the rate, the time left."""

from __future__ import annotations

from neat_delta.core.base.support.progress import Progress
from neat_delta.report.text import cut

__all__ = ["Pace"]


class Pace:
    """What is said of the work on one file after another: the rate is that since the first word of each."""

    def __init__(self) -> None:
        self._what, self._began, self._first = "", 0.0, 0

    def text(self, progress: Progress, now: float) -> str:
        """How far it is at a time in seconds.

        >>> pace = Pace()
        >>> pace.text(Progress("live.csv", "bytes", 71_000_000, 284_000_000), 10.0)
        'live.csv, 25 %, 71.0 of 284.0 MB'
        >>> pace.text(Progress("live.csv", "bytes", 142_000_000, 284_000_000), 12.0)
        'live.csv, 50 %, 142.0 of 284.0 MB, 35.5 MB/s, 4 s left'
        """
        if progress.what != self._what or progress.done < self._first:
            self._what, self._began, self._first = progress.what, now, progress.done
        share = 100 * progress.done // max(progress.total, 1)
        text = f"{cut(progress.what, LONGEST_NAME)}, {min(share, 100)} %, {_amounts(progress)}"
        seconds, more = now - self._began, progress.done - self._first
        if more <= 0 or seconds <= 0:
            return text
        rate = more / seconds
        left = max(progress.total - progress.done, 0) / rate
        speed = f"{rate / MEGABYTE:.1f} MB/s" if progress.unit == "bytes" else f"{rate:,.0f} rows/s"
        return f"{text}, {speed}, {_time(left)} left"


MEGABYTE = 1_000_000

LONGEST_NAME = 20
"""Characters of a file's name, so that all stands on one line."""


def _amounts(progress: Progress) -> str:
    if progress.unit == "bytes":
        return f"{progress.done / MEGABYTE:.1f} of {progress.total / MEGABYTE:.1f} MB"
    return f"{progress.done:,} of {progress.total:,} rows"


def _time(seconds: float) -> str:
    """A time in the unit that fits it."""
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s" if minutes else f"{rest} s"
