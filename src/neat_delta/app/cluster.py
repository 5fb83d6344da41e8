"""Workers that Dask's scheduler hands pieces to: processes of this machine, begun for one command, or of a cluster.

Rule: nothing else knows of Dask. A worker that dies is made up for, by the scheduler; a piece that cannot be done twice
ends the command, and so does a scheduler that goes away.
"""

from __future__ import annotations

import logging
import os
import re
import time
import warnings
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator
from concurrent.futures import CancelledError
from contextlib import ExitStack, contextmanager, suppress
from functools import cached_property, partial
from importlib.util import find_spec
from threading import RLock
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

from neat_delta.core.base.support.errors import FileError, WorkersError
from neat_delta.core.base.support.workers import engaging
from neat_delta.files.scratch import Scratch, remove, scratch_folder, scratch_in, taken

if TYPE_CHECKING:
    from distributed import Client, Future

__all__ = ["Cluster", "Program", "scheduler_address", "workers"]

Piece = TypeVar("Piece")
Result = TypeVar("Result")

ATTEMPTS = 2
"""So often a piece is tried."""

PIECES_A_WORKER = 3
"""So many pieces are under way for each: one that it works on, the others at hand when it is done with that."""

SECONDS_TO_CONNECT = 10
SECONDS_BETWEEN_LOOKS = 2.0
"""After so many without a result it is looked whether there are workers at all."""

SECONDS_WITHOUT_WORKERS = 30.0
"""So long a cluster may be without any: one that died is replaced by then."""

ADDRESS = re.compile(r"(?:tcp|tls|ws|wss)://[^\s/@]+:\d{1,5}")


class Program(NamedTuple):
    """What decides whether two processes come to the same: both programs, and how the engine hashes on that machine."""

    neat_delta: str
    polars: str
    hashes: int

    @classmethod
    def here(cls) -> Program:
        """That of this process."""
        import polars as pl

        import neat_delta

        return cls(neat_delta.__version__, pl.__version__, int(pl.Series(["Quillfern"]).hash(1)[0]))

    def difference(self, other: Program) -> str | None:
        """What another has otherwise, in words; None where it is the same."""
        for name, ours, theirs in (
            ("Neat Delta", self.neat_delta, other.neat_delta),
            ("Polars", self.polars, other.polars),
        ):
            if ours != theirs:
                return f"it has {name} {theirs}, and {ours} is here"
        return None if self.hashes == other.hashes else "its processor hashes texts otherwise than the one here"


def scheduler_address(text: str) -> str:
    """The address of a scheduler. ValueError where it is none.

    >>> scheduler_address("tcp://scheduler:8786")
    'tcp://scheduler:8786'
    """
    if not ADDRESS.fullmatch(text.strip()):
        raise ValueError(f"{text!r} is no address of a scheduler; one is tcp://scheduler:8786, or tls:// with it")
    return text.strip()


@contextmanager
def workers(engaged: int | str, say: Callable[[str], None] | None = None) -> Iterator[None]:
    """While it lasts, pieces of long files go to other processes: so many on this machine, or those of the cluster
    whose scheduler has this address, which reach the files under the same paths. They begin when there is something
    to do; then `say` is called with a line about them. ValueError where it is neither, WorkersError where Dask is not
    installed; in it, where they cannot be reached, or cannot do their part.

    >>> with workers(2):
    ...     pass
    """
    if isinstance(engaged, str):
        engaged = scheduler_address(engaged)
    elif engaged < 1:
        raise ValueError(f"{engaged} is no number of workers; say 1 or more")
    if find_spec("distributed") is None:
        raise WorkersError("workers need Dask, which is not installed. Install it: pip install 'neat-delta[cluster]'.")
    cluster = Cluster(engaged, say)
    try:
        with engaging(cluster):
            yield
    finally:
        cluster.close()


class Cluster:
    """Workers, once there is something to do for them. `engaged` is how many of this machine, or the address of a
    scheduler.
    """

    elsewhere = True

    def __init__(self, engaged: int | str, say: Callable[[str], None] | None = None) -> None:
        self._engaged, self._say, self._open, self._lock = engaged, say, ExitStack(), RLock()
        self._scratch: Scratch | None = None
        self._connection: Client | None = None

    @property
    def _client(self) -> Client:
        """The connection to the scheduler, all of whose workers run the same program as this process."""
        with self._lock:  # also threads ask for it
            if self._connection is None:
                client = self._of_machine() if isinstance(self._engaged, int) else self._of_scheduler(self._engaged)
                self._must_fit(client)
                self._connection = client
            return self._connection

    @cached_property
    def count(self) -> int:
        """How many pieces they work on at once."""
        return self._threads()

    def _threads(self) -> int:
        """How many pieces those that are there by now can work on at once."""
        try:
            return sum(self._client.nthreads().values())
        except (OSError, RuntimeError) as error:
            raise self._gone(error) from None

    @property
    def _name(self) -> str:
        return "on this machine" if isinstance(self._engaged, int) else f"at {self._engaged}"

    def _of_machine(self) -> Client:
        import dask
        from distributed import Client, LocalCluster

        assert isinstance(self._engaged, int)
        own = self._open.enter_context(scratch_in(None))
        settings = {
            "logging": {"distributed": "critical"},
            "distributed.scheduler.allowed-failures": ATTEMPTS - 1,
            "temporary-directory": own.folder,
        }
        self._open.enter_context(dask.config.set(settings))
        folder = scratch_folder()
        self._scratch = own if folder is None else self._open.enter_context(scratch_in(folder))
        cores = max(1, (os.cpu_count() or 1) // self._engaged)
        with _environment(PYTHONWARNINGS="ignore"):  # of what is left where the program is ended
            cluster = LocalCluster(
                n_workers=self._engaged,
                threads_per_worker=1,
                security=True,  # keys of its own: nobody else on this machine can hand over work
                dashboard_address=None,
                silence_logs=logging.CRITICAL,
                env={"POLARS_MAX_THREADS": str(cores)},
            )
        self._open.callback(cluster.close)
        return self._connected(Client(cluster, set_as_default=False))

    def _of_scheduler(self, address: str) -> Client:
        from distributed import Client

        if (folder := scratch_folder()) is not None:
            self._scratch = self._open.enter_context(scratch_in(folder))
        for name in ("distributed", "distributed.client"):  # what is wrong is said in a line of our own
            logging.getLogger(name).setLevel(logging.CRITICAL)
        try:
            return self._connected(Client(address, timeout=SECONDS_TO_CONNECT, set_as_default=False))
        except (OSError, ValueError, TypeError) as error:  # the last, where it wants TLS files and has none
            raise WorkersError(
                f"the scheduler at {address} does not answer ({_first_line(error)}). Is it running, and does this "
                "machine reach it? Without ‹cluster› this machine does all of it."
            ) from None

    def _connected(self, client: Client) -> Client:
        self._open.callback(client.close, timeout=SECONDS_TO_CONNECT)
        return client

    def _must_fit(self, client: Client) -> None:
        """WorkersError where there are no workers, or some run another program."""
        ours = Program.here()
        try:
            with suppress(TimeoutError):
                client.wait_for_workers(1, timeout=SECONDS_TO_CONNECT)
            programs = client.run(Program.here, on_error="return")
        except (OSError, RuntimeError) as error:
            raise self._gone(error) from None
        if not programs:
            raise WorkersError(f"the scheduler {self._name} has no workers. Start some, and run this again.")
        for address, program in sorted(programs.items()):
            if isinstance(program, Exception):
                raise WorkersError(
                    f"the worker {address} cannot run Neat Delta ({_first_line(program)}). Install {ours.neat_delta} "
                    "there, with Polars " + ours.polars + "."
                )
            if (difference := ours.difference(program)) is not None:
                raise WorkersError(
                    f"the worker {address} does not fit: {difference}. Install the same on every machine."
                )
        if self._say is not None:
            where = "" if isinstance(self._engaged, int) else f"; watch them at {client.dashboard_link}"
            self._say(f"{len(programs)} {self._name}{where}")

    def submit(self, work: Callable[[], Result]) -> Callable[[], Result]:
        """Begin with some work; calling what comes back waits for its result."""
        return partial(self._result, self._begun(_called, work), "")

    def map(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece], name: Callable[[Piece], str] | None = None
    ) -> Generator[Result]:
        """What becomes of each piece, in the order of the pieces, of which an error gives the name."""
        running, client = deque[tuple["Future[Any]", Piece, str]](), self._client
        try:
            for piece in pieces:
                handed = piece if self._scratch is None else self._scratch.put(piece)
                running.append((self._begun(work, handed), handed, "" if name is None else name(piece)))
                if len(running) > PIECES_A_WORKER * self.count:
                    yield self._of_piece(*running.popleft())
            while running:
                yield self._of_piece(*running.popleft())
        finally:
            if running:
                with suppress(OSError, RuntimeError):  # nobody is there who could be told
                    client.cancel([future for future, _, _ in running])

    def _of_piece(self, future: Future[Any], piece: Any, name: str) -> Any:  # noqa: ANN401 - what becomes of it
        result = self._result(future, name)
        remove(piece)
        return result

    def _begun(self, work: Callable[[Piece], Result], piece: Piece) -> Future[Any]:
        client = self._client
        try:
            with warnings.catch_warnings():  # of pieces that are larger than Dask's people thought
                warnings.simplefilter("ignore")
                handed = (Program.here(), self._scratch, work, piece)
                return client.submit(_worked_on, *handed, pure=False, retries=ATTEMPTS - 1)
        except (OSError, RuntimeError, ValueError) as error:
            raise self._gone(error) from None

    def _result(self, future: Future[Any], name: str) -> Any:  # noqa: ANN401 - what the work gives
        """The result of a piece. WorkersError where the workers cannot give it."""
        from distributed import KilledWorker

        at = f"{name}: " if name else ""
        since = time.monotonic()
        while True:
            try:
                result = future.result(timeout=SECONDS_BETWEEN_LOOKS)
                value = taken(result)
                remove(result)
                return value
            except TimeoutError as error:
                if future.status == "error":
                    raise WorkersError(f"{at}a worker gave up ({_first_line(error)}). Run it again.") from None
                since = time.monotonic() if self._threads() else since
                if time.monotonic() - since > SECONDS_WITHOUT_WORKERS:
                    raise self._gone("no worker is left") from None
            except KilledWorker as error:
                raise WorkersError(
                    f"{at}{error.allowed_failures + 1} workers that were at it died, one after the other, for lack of "
                    "memory perhaps. Nothing was handed over. Give each more memory, or let fewer work on one machine."
                ) from None
            except CancelledError:
                raise self._gone("the connection was lost") from None
            except (OSError, RuntimeError) as error:
                raise self._gone(error) from None

    def _gone(self, error: object) -> WorkersError:
        return WorkersError(
            f"the workers {self._name} are gone ({_first_line(error)}). Nothing was handed over: run the command again "
            "once they are back, or without them."
        )

    def close(self) -> None:
        """Let them go."""
        with suppress(OSError, RuntimeError):  # nobody is there any more
            self._open.close()


def _worked_on(program: Program, scratch: Scratch | None, work: Callable[[Any], Any], piece: Any) -> Any:  # noqa: ANN401
    """What becomes of a piece, on a worker: one that came later may have another program than those at the beginning.
    An error of a file says which worker had it.
    """
    from distributed import get_worker

    worker: Any = get_worker()
    if (difference := program.difference(Program.here())) is not None:
        raise WorkersError(f"the worker {worker.address} does not fit: {difference}. Install the same everywhere.")
    try:
        result = work(taken(piece))
        return result if scratch is None else scratch.put(result)
    except FileError as error:
        reached = f"(On the worker {worker.address}: each has to reach the files by their paths.)"
        raise FileError(f"{error} {reached}") from None


@contextmanager
def _environment(**settings: str) -> Iterator[None]:
    """While it lasts, processes that begin have these variables, where nothing else is said of them."""
    own = {name: text for name, text in settings.items() if name not in os.environ}
    os.environ.update(own)
    try:
        yield
    finally:
        for name in own:
            os.environ.pop(name, None)


def _called(work: Callable[[], Result]) -> Result:
    return work()


def _first_line(error: object) -> str:
    return str(error).strip().partition("\n")[0].rstrip(".") or type(error).__name__
