"""The service as an ASGI application: the decision protocol, health, metrics, and what has changed."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable, Coroutine, Mapping
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any, Final

import msgspec
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Route

from ask_above.community import Community
from ask_above.errors import AskAboveError
from ask_above.files.writing import PRIVATE
from ask_above.serve.asking import RequestError
from ask_above.serve.current import Bounds, BusyPoolError, Current, Pool
from ask_above.serve.decisions import Decided
from ask_above.serve.guard import Guard
from ask_above.serve.metrics import Metrics
from ask_above.serve.paging import SECRET_BYTES, Pages
from ask_above.serve.record import DecisionRecord
from ask_above.serve.source import Database, Fixed, Folder, ServedState, Source
from ask_above.workspace.journal import whose
from ask_above.workspace.tokens import Token

if TYPE_CHECKING:
    from starlette.requests import Request
    from starlette.types import ASGIApp, Receive, Scope, Send

    from ask_above.store.entries import Entry

MOST_BYTES: Final = 1024 * 1024
_SLOWEST = 10.0
"""How many seconds a request's body may take to come."""
_JSON: Final = frozenset({b"application/json", b"application/scim+json"})
_MOST_SAID: Final = str(MOST_BYTES * 100)
_SEARCHERS: Final = 4
_WAITING: Final = 60
"""How many searches run side by side, and how many wait for that; more are turned away."""
_MOST_DIGITS: Final = 18
_MANY = 20
"""From how many evaluations on a request is answered beside the others, so that none waits for it."""
_PATHS: Final = {
    "/access/v1/evaluation": "evaluation",
    "/access/v1/evaluations": "evaluations",
    "/access/v1/search/subject": "subjects",
    "/access/v1/search/resource": "resources",
    "/access/v1/search/action": "actions",
}
_ENDPOINTS: Final = {
    "access_evaluation_endpoint": "/access/v1/evaluation",
    "access_evaluations_endpoint": "/access/v1/evaluations",
    "search_subject_endpoint": "/access/v1/search/subject",
    "search_resource_endpoint": "/access/v1/search/resource",
    "search_action_endpoint": "/access/v1/search/action",
}
_SCIM: Final = "/scim/v2"
_SCIM_KINDS: Final = frozenset({"Users", "Groups", "Schemas", "ResourceTypes", "ServiceProviderConfig", ".search"})
_OTHERS: Final = ("/.well-known/authzen-configuration", "/changes", "/live", "/ready", "/metrics")
_KNOWN_PATHS: Final = frozenset({*_PATHS, *_OTHERS})


def application(
    community: Community | str | Path | None = None,
    *,
    register: str | None = None,
    public_url: str = "",
    decisions: Path | None = None,
    most_at_once: int = 64,
    fallback_secret: bytes | None = None,
    tell: bool = False,
    open_here: bool = False,
    bounds: Bounds | None = None,
    decisions_mode: int = PRIVATE,
) -> Guard:
    """Return an ASGI application that answers for a community, to be run or mounted in another.

    Parameters
    ----------
    community
        A community's folder or its charter, which are answered from as they are from then on, within a second; or a
        :class:`ask_above.Community`, which stays as it is. Without it the database that ``register`` names holds all of
        it.
    register
        The URL of the register's database.
    public_url
        Where the service is reached from outside, for the document that describes it.
    decisions
        A file that every decision is written to, as JSON lines.
    most_at_once
        How many requests are taken at a time; more are turned away with 503.
    fallback_secret
        What pages are signed with where no database keeps a secret for every worker; made anew where left out.
    tell
        Whether members whom a change by provisioning concerns are told in letters, into the outbox.
    open_here
        Whether this machine is answered without a token, as long as there is none. Without it the service is closed
        until there is a token; where there are tokens it is refused.
    bounds
        How long an old state may stand, in seconds: when ``/ready`` says so, and when nothing is answered any more.
    decisions_mode
        The mode of the decisions' files, which hold names.

    Raises :class:`ask_above.AskAboveError` where the community cannot be read, and where there is no token and it is
    not ``open_here``.

    """
    source = source_of(community, register)
    current = Current(source, Pages(_secret(source, fallback_secret)), bounds=bounds)
    check_closed(current.tokens, open_here=open_here)
    metrics = Metrics()
    record = None if decisions is None else DecisionRecord(decisions, decisions_mode, metrics.dropped.inc)
    service = Service(current, metrics, public_url, record)
    inner = Starlette(routes=service.routes(), lifespan=current.lasting)
    provisioning = _provisioning(current, service, tell=tell)
    return Guard(
        inner,
        direct=service.asked(),
        provisioning=provisioning,
        beside=service.beside(),
        current=current,
        metrics=service.metrics,
        known_paths=template_of,
        most_at_once=most_at_once,
        open_here=open_here,
        ready=service.readiness,
    )


class NoTokenError(AskAboveError, PermissionError):
    """A service that nobody was given a token for, and that was not said to be open; or one that was, and has some."""


def check_closed(tokens: Mapping[str, Token], *, open_here: bool) -> None:
    """Raise :class:`NoTokenError` where it is not clear whom a service is for."""
    if tokens and open_here:
        raise NoTokenError("There are tokens, so the service is closed: leave out --open, or remove them.")
    if not tokens and not open_here:
        raise NoTokenError(
            "There is no token, so nobody could ask. Make one: ask-above token add NAME. To answer this machine "
            "without a token: ask-above serve --open"
        )


def template_of(path: str) -> str:
    """Return what a path is called in logs and metrics: no key and no name is in it.

    >>> template_of("/scim/v2/Users/dara"), template_of("/access/v1/evaluation"), template_of("/wp-admin")
    ('/scim/v2/Users/{id}', '/access/v1/evaluation', 'other')
    """
    if path in _KNOWN_PATHS:
        return path
    if path.startswith(_SCIM):
        first, _, rest = path.removeprefix(_SCIM).strip("/").partition("/")
        if first in _SCIM_KINDS:
            return f"{_SCIM}/{first}" + ("" if not rest else "/.search" if rest == ".search" else "/{id}")
    return "other"


def _provisioning(current: Current, service: Service, *, tell: bool) -> ASGIApp | None:
    """Return what answers under ``/scim/v2``; nothing where its packages are not installed."""
    try:
        from ask_above.serve.scim import Provisioning
    except ImportError:
        return None
    return Provisioning(current, service.public_url, service.slow.read, service.metrics.written, tells=tell)


def source_of(community: Community | str | Path | None, register: str | None) -> Source:
    """Return where a community is read from: itself, its folder, or the database that holds all of it."""
    if isinstance(community, Community):
        return Fixed(community)
    if community is None:
        if register is None:
            raise ValueError("Name a community's folder, or the database that holds it.")
        return Database(register)
    return Folder(community, register)


def _secret(source: Source, fallback: bytes | None) -> bytes:
    from ask_above.store.keys import page_secret

    try:
        if source.store is not None:
            return page_secret(source.store)
    except (AskAboveError, OSError):
        pass  # where nothing may be written the workers of one machine share what they were told
    return fallback or secrets.token_bytes(SECRET_BYTES)


class Asking:
    """One endpoint of the protocol, as a small ASGI application: nothing stands between a request and its answer."""

    def __init__(self, service: Service, method: str) -> None:
        self.service, self.method = service, method

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request."""
        if scope["method"] != "POST":
            await Response("Only POST is answered here.", 405, {"Allow": "POST"})(scope, receive, send)
            return
        more: list[tuple[bytes, bytes]] = []
        try:
            reply = await self._decided(scope, receive)
        except RequestError as error:
            status, reply = error.status, _wrong(error.status, str(error))
        except RecursionError:
            status, reply = 400, _wrong(400, "This is nested too deep.")
        except BusyPoolError:
            self.service.metrics.refused.inc()
            status, reply, more = 503, _wrong(503, "Busy; ask again in a moment."), [(b"retry-after", b"1")]
        else:
            status = 200
        body = msgspec.json.encode(reply)
        said = [(b"content-length", str(len(body)).encode()), (b"content-type", b"application/json"), *more]
        await send({"type": "http.response.start", "status": status, "headers": said})
        await send({"type": "http.response.body", "body": body})

    async def _decided(self, scope: Scope, receive: Receive) -> Any:
        state = scope["state"]
        data = await read(state["headers"], receive, self.service.slow)
        decide = getattr(state["now"].decisions, self.method)
        given: tuple[Any, ...] = (data,)
        if self.method.startswith("evaluation"):
            given = data, self.service.heard(state["request"])
        # handing a single look-up to another thread would take longer than the look-up
        if _is_quick(self.method, data):
            return decide(*given)
        self.service.metrics.searches.inc()
        return await self.service.searches.run(decide, *given)


class Service:
    """The endpoints, and what they answer from."""

    def __init__(self, current: Current, metrics: Metrics, public_url: str, record: DecisionRecord | None) -> None:
        self.current, self.metrics, self.public_url, self.record = current, metrics, public_url.rstrip("/"), record
        current.heard = metrics.looked_on
        self.slow = SlowOnes()
        self.searches = Pool(_SEARCHERS, _WAITING, "search")

    def beside(self) -> tuple[Callable[[], Coroutine[Any, Any, None]], ...]:
        """Return what runs beside the requests, for as long as there are any."""
        return self.current.look_on, self.slow.watch

    def routes(self) -> list[Route]:
        """Return the routes."""
        return [
            *(Route(path, each) for path, each in self.asked().items()),
            Route("/.well-known/authzen-configuration", self.configuration),
            Route("/changes", self.changes),
            Route("/live", self.live),
            Route("/metrics", self.measured),
        ]

    def asked(self) -> dict[str, Asking]:
        """Return the endpoints of the protocol by their paths."""
        return {path: Asking(self, method) for path, method in _PATHS.items()}

    def heard(self, request: str) -> Callable[[Decided], None]:
        """Return what counts the decisions of a request, and writes them down where they are."""
        counted, record = self.metrics.decided, self.record
        if record is None:
            return counted

        def heard(one: Decided) -> None:
            counted(one)
            record.write(one, request)

        return heard

    async def configuration(self, request: Request) -> Response:
        """Say where what is asked."""
        base = self.public_url or f"{request.url.scheme}://{request.url.netloc}"
        found = {"policy_decision_point": base, **{name: base + path for name, path in _ENDPOINTS.items()}}
        return answer({**found, "capabilities": []})

    async def changes(self, request: Request) -> Response:
        """Say what has changed since a state: whose answers, or everybody's where the charter did."""
        since = request.query_params.get("since", "0").partition("-")[0]
        if not since.isascii() or not since.isdecimal() or len(since) > _MOST_DIGITS:
            return refused(400, "'since' must be the number of a state.")
        state: ServedState = request.state.now.state
        if int(since) > state.last:
            return refused(400, f"There is no state {since} yet; this is {state.number}.")
        entries = await asyncio.to_thread(self.current.source.entries, int(since))
        said = [_change(entry) for entry in entries if entry.number <= state.last]
        edited = state.number != str(state.last)
        return answer({"state": state.number, "changes": said, "edited": edited})

    async def live(self, _: Request) -> Response:
        """Say that the process answers."""
        return answer({"live": True})

    def readiness(self, token: Token | None) -> tuple[int, Any]:
        """Return whether it answers from the state of now, and records what it should; in one word without a token."""
        current = self.current
        lost = self.record is not None and self.record.failing
        word = "faulty" if current.fault else "stale" if current.stale else "unrecorded" if lost else "ready"
        status = 200 if word == "ready" else 503
        if token is None:
            return status, word
        found = {"ready": word == "ready", "word": word, "state": current.now.state.number, "stale": current.stale}
        return status, {**found, **({"fault": current.fault} if current.fault else {})}

    async def measured(self, _: Request) -> Response:
        """Return the metrics."""
        text, kind = self.metrics.said(self.current)
        return Response(text, media_type=kind)


def _is_quick(method: str, data: Mapping[str, Any]) -> bool:
    """Whether an answer takes no longer than to hand it to another thread."""
    if method == "evaluations":
        items = data.get("evaluations")
        return not isinstance(items, list) or len(items) < _MANY
    return method == "evaluation"


def _change(entry: Entry) -> dict[str, Any]:
    members = sorted({whose(row) for row in entry.rows})
    return {
        "number": entry.number,
        "at": entry.at,
        "kind": entry.kind,
        "charter": bool(entry.splices),
        "members": members,
    }


async def read(headers: Mapping[bytes, bytes], receive: Receive, slow: SlowOnes) -> dict[str, Any]:
    """Return a request's body, which is a JSON object; raises :class:`RequestError`."""
    kind = headers.get(b"content-type", b"")
    if kind != b"application/json" and kind.partition(b";")[0].strip().lower() not in _JSON:
        raise RequestError("The body must be JSON: Content-Type: application/json.")
    said = headers.get(b"content-length", b"")
    if len(said) > len(_MOST_SAID) or (said.isdigit() and int(said) > MOST_BYTES):
        raise RequestError(f"The body is larger than {MOST_BYTES} bytes.", 413)
    raw = await slow.read(receive)
    try:
        body = msgspec.json.decode(raw)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise RequestError(f"The body is no JSON: {error}.") from None
    if not isinstance(body, dict):
        raise RequestError("The body must be a JSON object.")
    return body


class SlowOnes:
    """Bodies that are on their way: one that takes too long is not waited for.

    A timer for each request would cost more than most answers do; one look now and then does for all.
    """

    def __init__(self, longest: float = _SLOWEST) -> None:
        self.longest = longest
        self.since: dict[asyncio.Task[Any], float] = {}
        self.late: set[asyncio.Task[Any]] = set()

    async def read(self, receive: Receive) -> bytes:
        """Return a body; raises :class:`RequestError` where it did not come in time."""
        task = asyncio.current_task()
        if task is None:
            return await _body(receive)
        self.since[task] = monotonic()
        try:
            return await _body(receive)
        except asyncio.CancelledError:
            # cancelled by our own watch, or by the server that stops: only the first is an answer
            if task not in self.late:
                raise
            task.uncancel()
            raise RequestError(f"The body did not come within {self.longest:.0f} seconds.", 408) from None
        finally:
            self.since.pop(task, None)
            self.late.discard(task)

    async def watch(self) -> None:
        """Break off what takes too long, for ever."""
        while True:
            await asyncio.sleep(min(1.0, self.longest / 2))
            now = monotonic()
            for task, start in [*self.since.items()]:
                if now - start > self.longest:
                    self.late.add(task)
                    task.cancel()


async def _body(receive: Receive) -> bytes:
    parts, size = [], 0
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            raise RequestError("The request broke off.")
        part = message.get("body", b"")
        size += len(part)
        if size > MOST_BYTES:
            raise RequestError(f"The body is larger than {MOST_BYTES} bytes.", 413)
        parts.append(part)
        if not message.get("more_body", False):
            return parts[0] if len(parts) == 1 else b"".join(parts)


def answer(data: Any, status: int = 200) -> Response:
    """Return data as JSON."""
    return Response(msgspec.json.encode(data), status, media_type="application/json")


def refused(status: int, message: str) -> Response:
    """Return a short text of what was wrong."""
    return answer(_wrong(status, message), status)


def _wrong(status: int, message: str) -> dict[str, Any]:
    return {"error": {"status": status, "message": message}}
