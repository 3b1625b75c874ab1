"""The state that a service answers from: one object takes the other's place, and no request sees half of two."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager, suppress
from threading import RLock
from time import monotonic
from typing import NamedTuple

from ask_above.errors import AskAboveError
from ask_above.serve.decisions import Decisions
from ask_above.serve.paging import Pages
from ask_above.serve.reading import told
from ask_above.serve.source import ServedState, Source
from ask_above.workspace.tokens import Token, tokens_of

_EVERY = 0.5
"""After how many seconds it is looked whether anything is new, if nothing tells; a change is answered within one."""

log = logging.getLogger("ask_above.serve")


class Now(NamedTuple):
    """A state with what answers from it, and since when it has been answered from."""

    state: ServedState
    decisions: Decisions
    since: float


class Current:
    """What is answered from now, and what keeps it so."""

    def __init__(self, source: Source, pages: Pages, every: float = _EVERY) -> None:
        self.source, self.pages, self.every = source, pages, every
        self.turn = RLock()  # a change made from here and a look for the changes of others take turns
        self.fault = ""
        self.faults = 0
        self.now = self._ready(source.first())
        self.tokens = self._tokens()

    def _ready(self, state: ServedState) -> Now:
        return Now(state, Decisions(state.community, self.pages), monotonic())

    def _tokens(self) -> Mapping[str, Token]:
        store = self.source.store
        return {} if store is None else tokens_of(store)

    def look(self) -> None:
        """Look whether there is another state, and answer from it; else the last good one stays."""
        with self.turn:
            self.source.settle()
            self._look()

    def settle(self) -> None:
        """Write what is left to be written, at the end."""
        with self.turn:
            self.source.settle(at_once=True)

    def _look(self) -> None:
        try:
            self.tokens = self._tokens()
            found = self.source.newer(self.now.state)
        except (AskAboveError, OSError) as error:
            said = told(error)
            if said != self.fault:
                self.fault, self.faults = said, self.faults + 1
                log.warning("the last good state answers on", extra={"fault": said, "state": self.now.state.number})
            return
        if self.fault:
            self.fault = ""
            log.info("the files are well again")
        if found is not None:
            self.now = self._ready(found)
            log.info("another state", extra={"state": found.number})

    @asynccontextmanager
    async def lasting(self, _: object) -> AsyncIterator[None]:
        """Stay while the service runs; at its end what is left to be written is written."""
        yield
        await asyncio.to_thread(self.settle)

    async def look_on(self) -> None:
        """Keep looking, beside the requests, for ever: as soon as something is told, and now and then."""
        told = asyncio.Event()
        watching = asyncio.create_task(self.source.watch(told.set))
        try:
            while True:
                with suppress(TimeoutError):
                    async with asyncio.timeout(self.every):
                        await told.wait()
                told.clear()
                await asyncio.to_thread(self.look)
        finally:
            watching.cancel()
