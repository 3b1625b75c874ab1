"""Run the service with uvicorn: workers, TLS, limits on connections, logs as JSON lines, a graceful end."""

from __future__ import annotations

import asyncio
import json
import logging
import os
import signal
import sys
import tempfile
from collections import Counter
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Final, NamedTuple

from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from ask_above.serve.current import Bounds
from ask_above.serve.paging import SECRET_BYTES

if TYPE_CHECKING:
    from starlette.types import ASGIApp


MOST_HEADER_BYTES: Final = 64 * 1024
MOST_URL_BYTES: Final = 8 * 1024
SECONDS_TO_ASK: Final = 10.0
"""How long a connection may take until a request stands there whole, its body aside, which has a time of its own."""
MOST_CONNECTIONS: Final = 1_000
MOST_PER_ADDRESS: Final = 100
PROXY: Final = "ASK_ABOVE_SERVE_PROXY_ADDRESSES"
"""The environment names the addresses of proxies, which may have as many connections as there are."""
_SETTINGS: Final = "ASK_ABOVE_SERVE_SETTINGS"
"""How the workers, which are processes of their own, learn what they are to serve."""
_TURN: Final = 0.0005
"""After how many seconds what reads another state lets those who ask have their turn."""
_SHARED: Final = "PROMETHEUS_MULTIPROC_DIR"
_KNOWN: Final = frozenset(logging.LogRecord("", 0, "", 0, "", None, None).__dict__) | {"message", "asctime", "taskName"}


class LimitedProtocol(HttpToolsProtocol):
    """HTTP for one connection, held to the limits of this module."""

    everybody: ClassVar[Counter[str]] = Counter()

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Take a connection, or close it where there are too many."""
        super().connection_made(transport)
        self._address = self.client[0] if self.client else ""
        self._counted, self._bytes, self._asking, self._refused = True, 0, True, False
        self.everybody[self._address] += 1
        self._timer: asyncio.TimerHandle | None = self.loop.call_later(SECONDS_TO_ASK, self._too_slow)
        proxies = os.environ.get(PROXY, "").replace(",", " ").split()
        too_many = self.everybody[self._address] > MOST_PER_ADDRESS and self._address not in proxies
        if too_many or self.everybody.total() > MOST_CONNECTIONS:
            self._refuse(503, "Too many connections.")

    def connection_lost(self, exc: Exception | None) -> None:
        """Give back what a connection had."""
        if self._counted:
            self._counted = False
            self.everybody[self._address] -= 1
            if not self.everybody[self._address]:
                del self.everybody[self._address]
        self._stop()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """Take what comes; a head that grows too large is answered, and the connection closed."""
        if self._refused:
            return
        if self._asking:
            self._bytes += len(data)
            if self._timer is None:
                self._timer = self.loop.call_later(SECONDS_TO_ASK, self._too_slow)
        super().data_received(data)
        if self._asking and self._bytes > MOST_HEADER_BYTES and not self._refused:
            self._refuse(431, "The header is too large.")

    def on_url(self, url: bytes) -> None:
        """Take a part of the URL."""
        super().on_url(url)
        if len(self.url) > MOST_URL_BYTES and not self._refused:
            self._refuse(414, "The URL is too long.")

    def on_headers_complete(self) -> None:
        """Begin a request once its head is there."""
        self._asking, self._bytes = False, 0
        self._stop()
        if not self._refused:
            super().on_headers_complete()

    def on_body(self, body: bytes) -> None:
        """Take a part of the body."""
        if not self._refused:
            super().on_body(body)

    def on_message_complete(self) -> None:
        """Wait for the next request once one is whole."""
        self._asking, self._bytes = True, 0
        if not self._refused:
            super().on_message_complete()

    def _too_slow(self) -> None:
        self._timer = None
        if self._asking and not self.transport.is_closing():
            self._refuse(408, "The request did not come in time.")

    def _stop(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _refuse(self, status: int, text: str) -> None:
        """Say why not, and close."""
        self._refused = True
        self._stop()
        body = text.encode()
        head = b"content-type: text/plain\r\nconnection: close\r\ncontent-length: %d\r\n\r\n" % len(body)
        self.transport.write(STATUS_LINE[status] + head + body)
        self.transport.close()


class Settings(NamedTuple):
    """All that a service is told."""

    community: str | None = None
    register: str | None = None
    host: str = "127.0.0.1"
    port: int = 8423
    workers: int = 1
    public_url: str = ""
    decisions: str | None = None
    most_at_once: int = 64
    certificate: str | None = None
    key: str | None = None
    quiet: bool = False
    tell: bool = False
    open_here: bool = False
    stale_after: float = 10.0
    serve_stale: float = 3600.0
    decisions_mode: int = 0o600
    proxies: str = ""
    secret: str = ""


class JsonLines(logging.Formatter):
    """A log record as one line of JSON."""

    def format(self, record: logging.LogRecord) -> str:
        """Write the record with all its other fields."""
        fields: dict[str, Any] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "event": record.getMessage(),
        }
        fields |= {key: value for key, value in record.__dict__.items() if key not in _KNOWN and key != "color_message"}
        if record.exc_info and record.exc_info[0] is not None:
            fields["error"] = f"{record.exc_info[0].__name__}: {record.exc_info[1]}"
        return json.dumps(fields, ensure_ascii=True, default=str)


def run(settings: Settings) -> None:
    """Serve until told to stop; what is in flight is finished."""
    import secrets

    import uvicorn

    settings = settings._replace(secret=settings.secret or secrets.token_hex(SECRET_BYTES))
    os.environ[_SETTINGS] = json.dumps(settings._asdict())
    os.environ[PROXY] = settings.proxies
    # what ends the server ends it by the way of every program, so that nothing of it stays behind
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    with ExitStack() as stack:
        if settings.workers > 1:
            os.environ[_SHARED] = stack.enter_context(tempfile.TemporaryDirectory(prefix="ask-above-metrics-"))
        uvicorn.run(
            "ask_above.serve.running:from_environment",
            factory=True,
            host=settings.host,
            port=settings.port,
            workers=settings.workers,
            ssl_certfile=settings.certificate,
            ssl_keyfile=settings.key,
            log_config=None,
            access_log=False,
            server_header=False,
            proxy_headers=False,
            http="ask_above.serve.running:LimitedProtocol",
            ws="none",
            timeout_keep_alive=30,
            timeout_graceful_shutdown=20,
        )


def from_environment() -> ASGIApp:
    """Return the application that the settings in the environment ask for: what each worker runs."""
    from ask_above.serve.service import application

    settings = Settings(**json.loads(os.environ[_SETTINGS]))
    sys.setswitchinterval(_TURN)
    log_to_stderr(quiet=settings.quiet)
    return application(
        settings.community,
        register=settings.register,
        public_url=settings.public_url,
        decisions=Path(settings.decisions) if settings.decisions else None,
        most_at_once=settings.most_at_once,
        fallback_secret=bytes.fromhex(settings.secret),
        tell=settings.tell,
        open_here=settings.open_here,
        bounds=Bounds(settings.stale_after, settings.serve_stale),
        decisions_mode=settings.decisions_mode,
    )


def log_to_stderr(*, quiet: bool) -> None:
    """Write logs as JSON lines to where errors go; ``quiet`` leaves single requests out."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(JsonLines())
    # of the whole package: what wakes the service is said by the store
    for name, level in (("ask_above", logging.WARNING if quiet else logging.INFO), ("uvicorn", logging.INFO)):
        logger = logging.getLogger(name)
        logger.handlers, logger.propagate = [handler], False
        logger.setLevel(level)
