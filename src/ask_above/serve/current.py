"""The state that a service answers from: one object takes the other's place, and no request sees half of two."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, asynccontextmanager, nullcontext, suppress
from threading import RLock
from time import monotonic, time
from typing import Any, NamedTuple, TypeVar

from ask_above.errors import AskAboveError, StoreError
from ask_above.serve.decisions import Decisions
from ask_above.serve.paging import Pages
from ask_above.serve.reading import told
from ask_above.serve.source import ServedState, Source
from ask_above.workspace.tokens import Token, tokens_of

_EVERY = 0.5
"""After how many seconds it is looked whether anything is new, if nothing tells; a change is answered within one."""
ResultT = TypeVar("ResultT")

log = logging.getLogger("ask_above.serve")


class Now(NamedTuple):
    """A state with what answers from it, and since when it has been answered from."""

    state: ServedState
    decisions: Decisions
    since: float


class Bounds(NamedTuple):
    """How long an old state may stand: when that is told, and when nothing is answered from it any more, in seconds."""

    stale_after: float = 10.0
    serve_stale: float = 3600.0


class Current:
    """What is answered from now, and what keeps it so.

    Tokens are part of the last good state: where neither folder nor database can be read, both stay as they were.
    ``heard`` is called after each look.
    """

    def __init__(self, source: Source, pages: Pages, every: float = _EVERY, bounds: Bounds | None = None) -> None:
        self.source, self.pages, self.every, self.bounds = source, pages, every, bounds or Bounds()
        self.turn = RLock()  # a change made from here and a look for the changes of others take turns
        self.fault = ""
        self.faults = 0
        self.since_at = time()
        self.heard: Callable[[Current], object] = lambda _: None
        self.now = self._ready(source.first())
        self.tokens: Mapping[str, Token] = {}
        self._had_store = False
        self.tokens = self._tokens()
        self.looked = monotonic()
        self.looked_at = time()
        # a look never waits for those who search, nor for those who write
        self._looks = ThreadPoolExecutor(1, "look")

    def _ready(self, state: ServedState) -> Now:
        return Now(state, Decisions(state.community, self.pages), monotonic())

    def _tokens(self) -> Mapping[str, Token]:
        store = self.source.store
        if store is None:
            if self._had_store:
                raise StoreError("The database is gone.")
            return {}
        self._had_store = True
        return tokens_of(store)

    @property
    def stale(self) -> float:
        """For how many seconds it is not known whether there is another state; 0 within the bounds of a look."""
        age = monotonic() - self.looked
        return age if age > self.bounds.stale_after else 0.0

    @property
    def is_over(self) -> bool:
        """Whether the last good state is too old to be answered from."""
        age = self.stale
        return bool(age) and age > self.bounds.serve_stale

    def look(self) -> None:
        """Look whether there is another state, and answer from it; else the last good one stays."""
        with self.turn:
            self.source.settle()
            self._look()
            self.heard(self)

    def kept_open(self) -> AbstractContextManager[None]:
        """Let what is read and written in the block go over one connection."""
        store = self.source.store
        return nullcontext() if store is None else store.kept_open()

    def catch_up(self) -> None:
        """Answer from no older a state than the database names: what any worker has written is seen from here."""
        if not self.source.is_newest():
            self.look()

    def settle(self) -> None:
        """Write what is left to be written, at the end."""
        with self.turn:
            self.source.settle(at_once=True)

    def _look(self) -> None:
        begun, begun_at = monotonic(), time()
        try:
            with self.kept_open():
                tokens = self._tokens()
                served_state = self.source.newer(self.now.state)
        except (AskAboveError, OSError) as error:
            said = told(error)
            if said != self.fault:
                self.fault, self.faults = said, self.faults + 1
                log.warning("the last good state answers on", extra={"fault": said, "state": self.now.state.number})
            return
        self.tokens, self.looked, self.looked_at = tokens, begun, begun_at
        if self.fault:
            self.fault = ""
            log.info("the files are well again")
        if served_state is not None:
            self.now, self.since_at = self._ready(served_state), time()
            log.info("another state", extra={"state": served_state.number})
            for undone in served_state.undone:
                log.warning("an edit by hand undoes a change", extra={"undone": undone, "state": served_state.number})

    @asynccontextmanager
    async def lasting(self, _: object) -> AsyncIterator[None]:
        """Stay while the service runs; at its end what is left to be written is written."""
        yield
        await asyncio.to_thread(self.settle)

    async def look_on(self) -> None:
        """Keep looking, beside the requests, for ever: as soon as something is told, and now and then."""
        woken, loop = asyncio.Event(), asyncio.get_running_loop()
        watching = asyncio.create_task(self.source.watch(woken.set))
        with suppress(ImportError, NotImplementedError, RuntimeError, ValueError, AttributeError):
            import signal

            loop.add_signal_handler(signal.SIGHUP, woken.set)  # reads again
        well = True
        try:
            while True:
                with suppress(TimeoutError):
                    # what was told is told once: a look that failed is not left until the next that nothing asks for
                    async with asyncio.timeout(self.every if well else min(self.every, _EVERY)):
                        await woken.wait()
                woken.clear()
                try:
                    await loop.run_in_executor(self._looks, self.look)
                    well = not self.fault
                except Exception:  # whatever it is, it must not be the last look: the next may be well
                    well = False
                    log.exception("a fault of the service itself", extra={"state": self.now.state.number})
        finally:
            watching.cancel()


class BusyPoolError(Exception):
    """More wait already than there are workers for."""


class Pool:
    """Workers of their own for what takes long, so many at a time, and no more than so many who wait."""

    def __init__(self, workers: int, waiting: int, name: str) -> None:
        self._workers, self._most, self._running = ThreadPoolExecutor(workers, name), workers + waiting, 0

    async def run(self, work: Callable[..., ResultT], *given: Any) -> ResultT:
        """Do some work; raises :class:`BusyPoolError` where too many wait."""
        if self._running >= self._most:
            raise BusyPoolError
        self._running += 1
        try:
            return await asyncio.get_running_loop().run_in_executor(self._workers, lambda: work(*given))
        finally:
            self._running -= 1
