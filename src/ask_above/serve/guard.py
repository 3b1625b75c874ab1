"""What stands before every request: who may speak, how much, how long, and what is noted of it.

Closed, whatever happens: without a token nobody is served, unless the service was started for this machine alone and
has never had a token.
"""

from __future__ import annotations

import asyncio
import hmac
import ipaddress
import logging
from collections.abc import Callable, Coroutine, Mapping, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from secrets import token_hex
from time import perf_counter
from typing import TYPE_CHECKING, Any, Final

import msgspec

from ask_above.serve.current import Current
from ask_above.serve.metrics import Metrics
from ask_above.workspace.tokens import Token, TokenMay, digest_of

if TYPE_CHECKING:
    from starlette.types import ASGIApp, Message, Receive, Scope, Send

log = logging.getLogger("ask_above.serve")
OPEN: Final = frozenset({"/live", "/ready"})
"""What anybody may ask who reaches the port: whether it lives."""
_LOCAL: Final = frozenset({"localhost", "127.0.0.1", "::1"})
_LONGEST_ID = 200
SCIM_ERROR: Final = "urn:ietf:params:scim:api:messages:2.0:Error"


def token_of(tokens: Mapping[str, Token], header: bytes | None) -> Token | None:
    """Return whose token a header holds; every known one is compared in constant time."""
    if header is None or header[:7].lower() != b"bearer ":
        return None
    mine = digest_of(header[7:].decode("latin-1").strip())
    known = None
    for digest, token in tokens.items():
        if hmac.compare_digest(digest, mine):
            known = token
    return None if known is None or known.is_over(datetime.now(UTC)) else known


class Guard:
    """An ASGI application around the service."""

    def __init__(
        self,
        app: ASGIApp,
        *,
        direct: Mapping[str, ASGIApp],
        provisioning: ASGIApp | None = None,
        beside: Sequence[Callable[[], Coroutine[Any, Any, None]]],
        current: Current,
        metrics: Metrics,
        known_paths: Callable[[str], str],
        most_at_once: int = 64,
        open_here: bool = False,
        ready: Callable[[Token | None], tuple[int, Any]],
    ) -> None:
        self.direct, self.beside, self.provisioning = direct, beside, provisioning
        self._beside: list[asyncio.Task[None]] = []
        self.app, self.current, self.metrics, self.known_paths = app, current, metrics, known_paths
        self.most, self.open_here, self.ready = most_at_once, open_here, ready
        self.running = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let a request through, or say why not."""
        # an application that this one is mounted in may not say when it starts: the first message does
        if not self._beside or self._beside[0].get_loop() is not asyncio.get_running_loop():
            self._beside = [asyncio.create_task(each()) for each in self.beside]
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        started, status, begun = perf_counter(), 500, False
        headers = dict(scope["headers"])
        given = headers.get(b"x-request-id", b"")[:_LONGEST_ID]
        request = given if given and given.isascii() and given.decode().isprintable() else token_hex(16).encode()
        now = self.current.now  # one state from here to the answer, whatever comes meanwhile
        scope["state"] = {**scope.get("state", {}), "request": request.decode(), "now": now, "headers": headers}
        state, stale = now.state.number.encode(), self.current.stale

        async def answered(message: Message) -> None:
            nonlocal status, begun
            if message["type"] == "http.response.start":
                begun = True
                status = message["status"]
                message["headers"] = [*message["headers"], (b"x-request-id", request), (b"x-ask-above-state", state)]
                if stale:
                    message["headers"].append((b"x-ask-above-stale", str(int(stale)).encode()))
            await send(message)

        here = scope["path"].removeprefix(scope.get("root_path", ""))  # where it is mounted in another
        path = self.known_paths(here)
        self.running += 1
        try:
            refused = self._refused(scope, headers, here)
            if refused is not None:
                await _say(answered, *refused, scim=here.startswith("/scim/"))
            elif here == "/ready":
                await self._say_ready(answered, headers)
            else:
                # what is asked most goes by no router
                app = self.provisioning if here.startswith("/scim/") and self.provisioning else None
                await (app or self.direct.get(here, self.app))(scope, receive, answered)
        except asyncio.CancelledError:
            raise
        except Exception:
            log.exception("a fault of the service itself", extra={"request": request.decode(), "path": path})
            if not begun:
                await _say(answered, 500, "Something went wrong in the service itself.", {}, scim=here[:6] == "/scim/")
        finally:
            self.running -= 1
            taken = perf_counter() - started
            self.metrics.answered(path, status, taken)
            if log.isEnabledFor(logging.INFO):
                log.info(
                    "request",
                    extra={
                        "request": request.decode(),
                        "token": getattr(scope["state"].get("token"), "name", None),
                        "client": scope["client"][0] if scope.get("client") else None,
                        "method": scope["method"],
                        "path": path,
                        "status": status,
                        "ms": round(taken * 1000, 3),
                    },
                )

    def _refused(
        self, scope: Scope, headers: Mapping[bytes, bytes], path: str
    ) -> tuple[int, str, dict[str, str]] | None:
        """Return why a request is not let through."""
        if self.running > self.most and path not in OPEN:
            self.metrics.refused.inc()
            return 503, "Busy; ask again in a moment.", {"Retry-After": "1"}
        if path in OPEN:
            return None
        tokens = self.current.tokens
        self.open_here = self.open_here and not tokens  # who has had a token stays closed
        token = token_of(tokens, headers.get(b"authorization"))
        scope["state"]["token"] = token
        if b"authorization" in headers and token is None:
            return (
                401,
                "This token is not known, or it has ended.",
                {"WWW-Authenticate": 'Bearer error="invalid_token"'},
            )
        if token is None and (not self.open_here or path.startswith("/scim/")):
            return 401, "A bearer token is needed.", {"WWW-Authenticate": "Bearer"}
        if path.startswith("/scim/") and token is not None and token.may is not TokenMay.PROVISION:
            return 403, "This token may put questions, and change nobody.", {}
        if token is None and (refused := self._not_local(scope, headers)):
            return refused
        if self.current.is_over and path != "/metrics":
            return 503, "The last state that could be read is too old.", {"Retry-After": "10"}
        return None

    @staticmethod
    def _not_local(scope: Scope, headers: Mapping[bytes, bytes]) -> tuple[int, str, dict[str, str]] | None:
        """Without a token the machine itself alone is served, under its own name: no page of another site asks."""
        client = scope.get("client")
        if client is not None and not _is_local(client[0]):
            return 403, "Without a token only this machine is served. Make one: ask-above token add NAME", {}
        host = headers.get(b"host", b"").decode("latin-1")
        name = host[1:].partition("]")[0] if host.startswith("[") else host.partition(":")[0]
        if name.lower() not in _LOCAL and not (client is None or client[0] == "testclient"):
            return 403, "Without a token only this machine is served, under its own name.", {}
        return None

    async def _say_ready(self, send: Callable[[Message], Any], headers: Mapping[bytes, bytes]) -> None:
        """Say whether the service is ready: in one word, and more to who has a token."""
        status, words = self.ready(token_of(self.current.tokens, headers.get(b"authorization")))
        if isinstance(words, str):
            await _send(send, status, words.encode(), b"text/plain; charset=utf-8", {})
        else:
            await _send(send, status, msgspec.json.encode(words), b"application/json", {})


@lru_cache(maxsize=1024)
def _is_local(address: str) -> bool:
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return address in ("testclient", "localhost")


async def _say(
    send: Callable[[Message], Any], status: int, text: str, headers: Mapping[str, str], *, scim: bool = False
) -> None:
    """Say why not, as the protocol says it that was spoken."""
    if scim:
        data = {"schemas": [SCIM_ERROR], "status": str(status), "detail": text}
        await _send(send, status, msgspec.json.encode(data), b"application/scim+json", headers)
        return
    body = msgspec.json.encode({"error": {"status": status, "message": text}})
    await _send(send, status, body, b"application/json", headers)


async def _send(
    send: Callable[[Message], Any], status: int, body: bytes, kind: bytes, headers: Mapping[str, str]
) -> None:
    said = [(key.lower().encode(), value.encode()) for key, value in headers.items()]
    said += [(b"content-type", kind), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": said})
    await send({"type": "http.response.body", "body": body})
