"""A service asked within the test's own process, and a real one on the loopback."""

from __future__ import annotations

import asyncio
import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from ask_above.serve import application
from ask_above.serve.service import NoTokenError
from ask_above.workspace.home import Home
from ask_above.workspace.tokens import tokens_of


class Reply(NamedTuple):
    status: int
    headers: dict[str, str]
    body: bytes

    @property
    def data(self) -> Any:
        return json.loads(self.body)


def asked(
    app: Any,
    method: str,
    path: str,
    data: Any = None,
    *,
    raw: bytes | None = None,
    client: str = "127.0.0.1",
    **headers: str,
) -> Reply:
    """Put one request to an ASGI application; ``headers`` are written with _ for -."""
    body = raw if raw is not None else b"" if data is None else json.dumps(data).encode()
    said = {"host": "localhost", "content-type": "application/json", "content-length": str(len(body))}
    said |= {name.replace("_", "-"): value for name, value in headers.items()}
    where, _, query = path.partition("?")
    scope = {
        "type": "http",
        "method": method,
        "path": where,
        "raw_path": where.encode(),
        "query_string": query.encode(),
        "headers": [(name.lower().encode(), value.encode("latin-1")) for name, value in said.items()],
        "client": (client, 50_000),
        "server": ("localhost", 80),
        "scheme": "http",
        "http_version": "1.1",
        "root_path": "",
    }
    sent: list[Mapping[str, Any]] = []

    async def receive() -> Mapping[str, Any]:
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(message: Mapping[str, Any]) -> None:
        sent.append(message)

    asyncio.run(app(scope, receive, send))
    found = {name.decode(): value.decode("latin-1") for name, value in sent[0]["headers"]}
    return Reply(sent[0]["status"], found, b"".join(each.get("body", b"") for each in sent[1:]))


def app_of(community: Any, **options: Any) -> Any:
    """The service for a community: closed where there are tokens, else open to this machine."""
    try:
        return application(community, **options)
    except NoTokenError:
        return application(community, open_here=True, **options)


def has_tokens(folder: Path, register: str | None) -> bool:
    home = Home(folder, "charter.yaml", register)
    return home.location.holds_register() and bool(tokens_of(home.store))


def post(app: Any, what: str, data: Any, **headers: Any) -> Reply:
    return asked(app, "POST", f"/access/v1/{what}", data, **headers)


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def server(*options: str, cwd: Path, **env: str) -> Iterator[str]:
    """Run the real server on a free port of the loopback."""
    port = free_port()
    register = options[options.index("--register") + 1] if "--register" in options else None
    mode = [] if has_tokens(cwd, register or env.get("ASK_ABOVE_REGISTER")) else ["--open"]
    command = [sys.executable, "-m", "ask_above", "serve", "--port", str(port), *mode, *options]
    with (cwd / f"server-{port}.log").open("w") as log:
        process = subprocess.Popen(command, cwd=cwd, stdout=log, stderr=log, env={**os.environ, **env})
        try:
            for _ in range(400):
                with socket.socket() as one:
                    if one.connect_ex(("127.0.0.1", port)) == 0:
                        break
                if process.poll() is not None:
                    raise RuntimeError((cwd / f"server-{port}.log").read_text())
                time.sleep(0.05)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.wait(30)


def until(done: Any) -> None:
    """Wait until something is so; how long that may take depends on what else the machine has to do."""
    end = time.monotonic() + 120
    while not done():
        if time.monotonic() > end:
            raise AssertionError("not so within two minutes")
        time.sleep(0.02)
