"""A log read piece by piece, here or by the workers of a cluster, and the states that it is held against.

What a worker gives back is a tally.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Self, TypeVar

from ask_above.ask.audit.log import tally_part, together
from ask_above.ask.audit.states import StateAt, States
from ask_above.change.registering import changed
from ask_above.charter.moments import Instant, instant
from ask_above.decide.names import Names
from ask_above.errors import LogFaultError, QuestionError
from ask_above.files.logs import LogPiece, line_of, pieces, read_piece
from ask_above.files.splice import as_before
from ask_above.store.entries import Entry
from ask_above.workspace.storage import Storage, as_last_left, opened

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.audit.log import LogReader
    from ask_above.ask.audit.states import Stretches

ResultT = TypeVar("ResultT")
CONNECTS_WITHIN = "10s"
"""For how long a cluster is looked for."""


def states_of(home: Storage) -> States:
    """Return every state of a community's journal; without one that of now alone.

    What a change left stays so until the next; an edit by hand counts from the moment it was journalled, which is that
    of the next change.
    """
    snapshot = home.read()
    names = opened(home, snapshot)
    if snapshot.loaded is None:
        return States([StateAt(0, 0, "", names)])
    return States([*reversed([*_back(home, names)])])


def _back(home: Storage, names: Names) -> Iterator[StateAt]:
    """Yield the states from now back to the first that the journal knows."""
    snapshot = home.read()
    last = snapshot.loaded.last if snapshot.loaded else 0
    entries = [each for each in home.entries() if each.number <= last]
    texts = dict(snapshot.loaded.files if snapshot.loaded else snapshot.texts)
    charter, register = names.charter, names.register
    if snapshot.is_edited:  # what was edited by hand since counts now, and was not there before
        yield StateAt(last, names.moment(), "edited by hand", names)
        charter, register = as_last_left(home, snapshot)
        names = names.after(charter=charter, register=register)
    for entry in reversed(entries):
        yield StateAt(entry.number, took_effect(entry), entry.what, names)
        if entry.kind == "import" and entry.number == 1:
            return
        texts = as_before(texts, entry.splices)
        rows = [row.back for row in reversed(entry.rows)]
        if entry.splices:
            charter = home.charter_of(texts)
        if rows:
            register = changed(register, rows, charter.zone)
        if entry.splices or rows:
            names = names.after(charter=charter, register=register)


def took_effect(entry: Entry) -> Instant:
    """Return when a change took effect; of an entry that knows the second alone that is its end."""
    at = datetime.fromisoformat(entry.at)
    return instant(at if "." in entry.at else at.replace(microsecond=999_999))


class Tallied(NamedTuple):
    """A log brought down to what differs, and how many of its rows had been refused."""

    tally: pd.DataFrame | None
    refused: int


def tally_piece(piece: LogPiece, reader: LogReader, stretches: Stretches) -> Tallied:
    """Return the tally of one piece: what a worker does. It holds no more than one part of the piece at a time.

    Raises :class:`QuestionError` with file and line for a row that cannot be meant.
    """
    tallied = Tallied(None, 0)
    for before, part in read_piece(piece):
        try:
            tallied = added(tallied, tally_part(part, reader, stretches))
        except LogFaultError as fault:
            where = f"{Path(piece.path).name} {line_of(piece, before + fault.row)}"
            raise QuestionError(f"{where}: {fault.why}") from None
    return tallied


def added(known: Tallied, more: tuple[pd.DataFrame | None, int]) -> Tallied:
    """Put two tallies together."""
    tally, refused = more
    tallies = [frame for frame in (known.tally, tally) if frame is not None and len(frame)]
    return Tallied(together(tallies) if tallies else None, known.refused + refused)


def tally_frames(frames: Iterable[Any], reader: LogReader, stretches: Stretches) -> Tallied:
    """Return the tally of tables, one after the other; the partitions of a Dask data frame by its own scheduler."""
    tallied = Tallied(None, 0)
    for frame in frames:
        if hasattr(frame, "to_delayed"):
            import dask

            tasks = [dask.delayed(tally_part)(part, reader, stretches) for part in frame.to_delayed()]
            for more in dask.compute(*tasks):
                tallied = added(tallied, more)
        else:
            tallied = added(tallied, tally_part(frame, reader, stretches))
    return tallied


def ask_parts(ask: Callable[[pd.DataFrame], pd.Series[bool]], frame: Any) -> Any:
    """Return the answers for a Dask data frame as a Dask series, partition by partition; who answers is sent once."""
    import dask
    import pandas as pd

    return frame.map_partitions(_asked_part, dask.delayed(ask), meta=pd.Series(name="may", dtype=bool))


def _asked_part(part: pd.DataFrame, ask: Callable[[pd.DataFrame], pd.Series[bool]]) -> pd.Series[bool]:
    return ask(part)


def tally_files(
    paths: Sequence[Path],
    reader: LogReader,
    stretches: Stretches,
    *,
    cluster: str | None = None,
    told: Callable[[int, int], None] | None = None,
) -> Tallied:
    """Return the tally of logs, read here; with ``cluster`` by workers, ``local`` ones or those at an address.

    Raises :class:`QuestionError` where the cluster cannot be had. A worker that is killed is made up for by another.
    """
    work = [piece for path in paths for piece in pieces(path)]
    tallied = Tallied(None, 0)
    if cluster is None:
        for n, piece in enumerate(work, 1):
            tallied = added(tallied, tally_piece(piece, reader, stretches))
            if told:
                told(n, len(work))
        return tallied
    with _client(cluster) as client:
        from dask import distributed

        shared = client.scatter([reader, stretches], broadcast=True)
        futures = [client.submit(tally_piece, piece, *shared, pure=False) for piece in work]
        for n, future in enumerate(distributed.as_completed(futures), 1):
            tallied = added(tallied, _result(future))
            future.release()
            if told:
                told(n, len(work))
    return tallied


class Spread:
    """Where pieces of work are done: here, one after the other, or by the workers of a cluster; a context."""

    def __init__(self, cluster: str | None) -> None:
        self.cluster = cluster
        self._client: Any = None

    def __enter__(self) -> Self:
        self._client = None if self.cluster is None else _client(self.cluster)
        return self

    def __exit__(self, *_: object) -> None:
        if self._client is not None:
            self._client.close()

    def run(self, work: Callable[..., ResultT], pieces: Iterable[tuple[Any, ...]]) -> Iterator[ResultT]:
        """Yield what each piece of work comes to, in their order; what a worker is killed at another one does."""
        if self._client is None:
            yield from (work(*piece) for piece in pieces)
            return
        futures = [self._client.submit(work, *piece, pure=False) for piece in pieces]
        for future in futures:
            yield _result(future)
            future.release()


def _result(future: Any) -> Any:
    try:
        return future.result()
    except ModuleNotFoundError as error:
        raise QuestionError(
            f"A worker has no '{error.name}'. On every worker: pip install 'ask-above[cluster]'"
        ) from None


def _client(cluster: str) -> Any:
    try:
        from dask import distributed
    except ImportError:
        raise QuestionError("A cluster needs more packages: pip install 'ask-above[cluster]'") from None
    if cluster != "local":
        try:
            return distributed.Client(cluster, timeout=CONNECTS_WITHIN)
        except (OSError, ValueError, TimeoutError) as error:
            raise QuestionError(f"There is no cluster at '{cluster}': {error}") from None
    _check_main()
    return distributed.Client(distributed.LocalCluster(threads_per_worker=1, dashboard_address=None, silence_logs=50))


def _check_main() -> None:
    """Raise where workers could not start: each of them reads the script again, and without a guard it starts more."""
    import multiprocessing
    import sys

    main = sys.modules.get("__main__")
    file = getattr(main, "__file__", None)
    if multiprocessing.current_process().name != "MainProcess":
        raise QuestionError(
            "This script starts workers each time that it is read: put it under if __name__ == '__main__':"
        )
    if file is not None and not Path(file).exists():
        raise QuestionError("Workers cannot read a script from standard input: put it into a file.")
