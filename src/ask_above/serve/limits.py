"""What one connection, one address and all of them together may take of the service: in the HTTP protocol's class.

The server's own limits come first (idle time between requests, the grace at the end); what it has none for stands here.
"""

from __future__ import annotations

import asyncio
import os
from collections import Counter
from typing import ClassVar, Final

from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

MOST_HEADER_BYTES: Final = 64 * 1024
MOST_URL_BYTES: Final = 8 * 1024
SECONDS_TO_ASK: Final = 10.0
"""How long a connection may take until a request stands there whole, its body aside, which has a time of its own."""
MOST_CONNECTIONS: Final = 1_000
MOST_PER_ADDRESS: Final = 100
PROXY: Final = "ASK_ABOVE_SERVE_PROXY_ADDRESSES"
"""The environment names the addresses of proxies, which may have as many connections as there are."""


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
