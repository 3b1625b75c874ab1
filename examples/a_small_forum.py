"""A forum that asks at every click: a service beside it decides, and the forum says why not.

The forum is a small ASGI application. It keeps posts in memory, knows nothing of ranks, and asks the service through
:class:`ask_above.serve.Client`.
"""

import threading
import time
from collections.abc import Awaitable, Callable
from contextlib import contextmanager
from socket import socket
from typing import Any

import httpx
import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from ask_above import Community
from ask_above.serve import Client, application

POSTS = [{"id": 1, "place": "river-talk", "author": "tove", "text": "Herons at the weir, seven of them."}]


class Forum:
    """Posts in places; every click is a question."""

    def __init__(self, decisions: Client) -> None:
        self.decisions = decisions
        self.app = Starlette(
            routes=[
                Route("/{place}", self.read, methods=["GET"]),
                Route("/{place}", self.write, methods=["POST"]),
                Route("/posts/{number:int}", self.remove, methods=["DELETE"]),
            ]
        )

    def refused(self, who: str, capability: str, place: str, author: str | None = None) -> Response | None:
        """Ask; return what to answer where it is a no."""
        if self.decisions.may(who, capability, at=place, author=author):
            return None
        return JSONResponse({"why": self.decisions.for_the_user(who, capability, at=place, author=author)}, 403)

    async def read(self, request: Request) -> Response:
        """Show the posts of a place to those who see it, with what they can do to each."""
        who, place = request.headers.get("x-member", "visitor"), request.path_params["place"]
        no = self.refused(who, "place.see", place)
        found = [
            {**post, "can_edit": bool(self.decisions.may(who, "post.edit", at=place, author=str(post["author"])))}
            for post in POSTS
            if post["place"] == place
        ]
        return no or JSONResponse(found)

    async def write(self, request: Request) -> Response:
        """Add a post."""
        who, place = request.headers.get("x-member", "visitor"), request.path_params["place"]
        no = self.refused(who, "post.write", place)
        if no is None:
            POSTS.append({"id": len(POSTS) + 1, "place": place, "author": who, "text": (await request.body()).decode()})
        return no or JSONResponse(POSTS[-1], 201)

    async def remove(self, request: Request) -> Response:
        """Take a post down: their own, or any where they may."""
        who, number = request.headers.get("x-member", "visitor"), request.path_params["number"]
        post = next(each for each in POSTS if each["id"] == number)
        no = self.refused(who, "post.remove", str(post["place"]), str(post["author"]))
        if no is None:
            POSTS.remove(post)
        return no or Response(status_code=204)


@contextmanager
def running(app: Callable[..., Awaitable[None]]) -> Any:
    """Run an application on a free port of this machine."""
    with socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(app, port=port, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join()


with running(application(Community.demo(), open_here=True)) as decides, Client(decides) as decisions:
    forum = Forum(decisions)
    with running(forum.app) as url, httpx.Client(base_url=url) as site:
        for who, method, path in (
            ("dara", "GET", "/river-talk"),
            ("dara", "POST", "/river-talk"),
            ("dara", "POST", "/notices"),
            ("dara", "DELETE", "/posts/1"),
            ("ada", "DELETE", "/posts/1"),
            ("visitor", "GET", "/landowners"),
        ):
            content = b"The footbridge is open again." if method == "POST" else None
            reply = site.request(method, path, headers={"x-member": who}, content=content)
            said: Any = reply.json() if reply.content else ""
            shown = said["why"] if reply.is_error else said
            print(f"{who} {method} {path}: {reply.status_code} {shown}")
