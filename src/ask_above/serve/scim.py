"""SCIM 2.0 under the service: requests handed to the protocol's own library, with the register behind it."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from http import HTTPStatus
from typing import TYPE_CHECKING, Any, Final, NamedTuple
from urllib.parse import parse_qsl

import msgspec
from scim2_models import InvalidSyntaxException, InvalidValueException, PreconditionFailedException, SCIMException
from scim2_server.handler import ScimHandler
from scim2_server.requests import ScimRequest
from scim2_server.responses import ScimResponse
from scim2_server.routing import Operation
from scim2_server.service import ScimService

from ask_above.errors import AskAboveError
from ask_above.serve.asking import RequestError
from ask_above.serve.current import BusyPoolError, Pool
from ask_above.serve.provisioning import ACTOR, MeanwhileError, RegisterStorage, UnavailableError, without_unknown
from ask_above.serve.resources import EXTENSION, provider
from ask_above.workspace.tokens import Token

if TYPE_CHECKING:
    from collections.abc import Awaitable, Callable

    from starlette.types import Receive, Scope, Send

    from ask_above.serve.current import Current


_ONE_MEMBER: Final = re.compile(r'members\[\s*value\s+eq\s+"([^"\\]*)"\s*\]', re.IGNORECASE)
PREFIX: Final = "/scim/v2"
_WORKERS: Final = 4
_WAITING: Final = 60
_TRIES: Final = 8
_READS: Final = ("GET", "HEAD")
_USER: Final = frozenset(
    {"schemas", "id", "externalid", "meta", "username", "name", "displayname"}
    | {"emails", "phonenumbers", "active", "groups"}
    | {EXTENSION.casefold()}
)
_GROUP: Final = frozenset({"schemas", "id", "externalid", "meta", "displayname", "members"})
_ADDRESS: Final = re.compile(r"(?:.*:)?(emails|phonenumbers)\[[^\]]*\]\.value", re.IGNORECASE)
_ONE: Final = {"emails": "work", "phonenumbers": "work"}
"""Of what a member has one, and the type it is told by."""
_NOTHING: Final = b"{}"
"""What is left of a patch that says nothing of what is kept."""
_NAME: Final = frozenset({"formatted", "familyname", "givenname"})
_EMAIL: Final = frozenset({"value", "type"})
_MEMBER: Final = frozenset({"value", "display", "type", "$ref"})
_SCHEMAS: Final = ("urn:ietf:params:scim:schemas:core:", "urn:ietf:params:scim:api:", EXTENSION)


class Moves(NamedTuple):
    """Who comes into a group and who goes."""

    come: frozenset[str]
    go: frozenset[str]


class Handler(ScimHandler):
    """The protocol's library, which reads and writes whole resources, but for such a change of a group."""

    def __init__(self, service: ScimService, storage: RegisterStorage) -> None:
        super().__init__(service, storage)
        self.register = storage

    def patch(self, request: ScimRequest) -> ScimResponse:
        """Change a resource."""
        with self.service.provider:
            target = self.service.route(request, Operation.patch)
            kind = self.service.resource_type_at(str(target.endpoint))
            if kind.name == "Group" and not request.query:
                sent = self.service.read_patch(kind, request.body, request.header("Content-Type"))
                moves = moves_in(sent.operations or ())
                if moves is not None:
                    conditions = self.service.read_conditions(request)
                    version = self.register.move(
                        str(target.resource_id),
                        moves.come,
                        moves.go,
                        lambda known: self.service.check_preconditions(known, "PATCH", conditions),
                    )
                    return ScimResponse(HTTPStatus.NO_CONTENT, None, {"ETag": version})
        return super().patch(request)


def moves_in(operations: Sequence[Any]) -> Moves | None:
    """Return who comes and who goes; ``None`` where a patch says anything else besides."""
    come, go = dict[str, None](), dict[str, None]()
    for operation in operations:
        path, op = str(operation.path or ""), str(operation.op.value)
        one = _ONE_MEMBER.fullmatch(path)
        if op == "remove" and one and operation.value is None:
            come.pop(one[1], None)
            go[one[1]] = None
        elif op == "add" and path.casefold() == "members" and _are_members(operation.value):
            for member in operation.value:
                go.pop(member["value"], None)
                come[member["value"]] = None
        else:
            return None
    return Moves(frozenset(come), frozenset(go))


def _are_members(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(m, dict) and isinstance(m.get("value"), str) for m in value)


class Provisioning:
    """The endpoints under ``/scim/v2``, as an ASGI application."""

    def __init__(
        self,
        current: Current,
        public_url: str,
        body: Callable[[Receive], Awaitable[bytes]],
        written: Callable[[int], None],
        *,
        tells: bool = False,
    ) -> None:
        self.service = ScimService(provider())
        self.handler = Handler(self.service, RegisterStorage(current, tells=tells))
        self.public_url, self.body, self.current, self.written = public_url, body, current, written
        self.workers = Pool(_WORKERS, _WAITING, "provisioning")

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request."""
        headers = [(key.decode("latin-1"), value.decode("latin-1")) for key, value in scope["headers"]]
        here = scope["path"].removeprefix(scope.get("root_path", ""))
        try:
            body = await self.body(receive)
        except RequestError as error:
            await _send(send, error.status, {}, _wrong(error.status, str(error)))
            return
        host = dict(scope["headers"]).get(b"host", b"localhost").decode("latin-1")
        root = self.public_url or f"{scope['scheme']}://{host}{scope.get('root_path', '')}"
        path = here.removeprefix(PREFIX)
        try:
            sent = _trimmed(path, scope["method"], body)
        except SCIMException as error:
            response = self.service.error_response(error)
            await _send(send, response.status.value, response.headers, response.body)
            return
        request = ScimRequest(
            method=scope["method"],
            base_url=f"{root}{PREFIX}",
            path=path,
            query=dict(parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True)),
            headers=headers,
            body=sent,
        )
        if request.method == "PATCH" and body and request.body == _NOTHING:
            request.method, request.body = "GET", b""  # all of it is about what is not kept here: nothing changes
        try:
            response = await self.workers.run(self._answered, request, scope["state"].get("token"))
        except BusyPoolError:
            await _send(send, 503, {"Retry-After": "1"}, _wrong(503, "Busy; send it again in a moment."))
            return
        if request.method not in _READS and not path.endswith(".search"):
            self.written(response.status.value)
        await _send(send, response.status.value, response.headers, response.body)

    def _answered(self, request: ScimRequest, token: Token | None) -> ScimResponse:
        """Answer from no older a state than any worker has written; a conflict with others is tried again."""
        ACTOR.set(token)
        precondition = request.header("If-Match") is not None
        for _ in range(_TRIES):
            try:
                with self.current.kept_open():
                    self.current.catch_up()
                    if request.method in _READS or request.path.endswith(".search"):
                        return self.handler.handle(request)
                    with self.current.turn:  # what is read of a resource is what is changed
                        return self.handler.handle(request)
            except MeanwhileError:
                if precondition:
                    return self.service.error_response(PreconditionFailedException(detail="It has changed since."))
            except SCIMException as error:
                return self.service.error_response(error)
            except (UnavailableError, AskAboveError, OSError):
                break
        return ScimResponse(
            HTTPStatus.SERVICE_UNAVAILABLE,
            _wrong(503, "The register cannot be reached now; send it again later."),
            {"Retry-After": "5"},
        )


def _trimmed(path: str, method: str, body: bytes) -> bytes:
    """Return a body without the attributes that are not kept here; what is no JSON stays, to be told."""
    kind, _, rest = path.strip("/").casefold().partition("/")
    if rest == ".search":
        return body
    if kind not in ("users", "groups") or method not in ("POST", "PUT", "PATCH") or not body:
        return body
    try:
        data = msgspec.json.decode(body)
    except (msgspec.DecodeError, RecursionError):
        return body
    if not isinstance(data, dict):
        return body
    known = _USER if kind == "users" else _GROUP
    if method == "PATCH":
        operations = next((value for key, value in data.items() if key.casefold() == "operations"), None)
        if not isinstance(operations, list) or not operations:
            raise InvalidSyntaxException(detail="A PATCH needs Operations.")
        patch = _patch(data, known)
        dropped = any(key.casefold() == "operations" and not value and data[key] for key, value in patch.items())
        return _NOTHING if dropped else json.dumps(patch).encode()
    return json.dumps(_inside(without_unknown(data, known))).encode()


def _inside(data: dict[str, Any]) -> dict[str, Any]:
    """Return a resource whose names, addresses and members have what is kept of them alone."""
    kept: dict[str, Any] = {}
    for key, value in data.items():
        parts = {"name": _NAME, "members": _MEMBER, **dict.fromkeys(_ONE, _EMAIL)}.get(key.casefold())
        if parts is not None and isinstance(value, dict):
            kept[key] = without_unknown(value, parts)
        elif key.casefold() in _ONE and isinstance(value, list):
            some = sorted((item for item in value if isinstance(item, dict)), key=_is_no_primary)
            kept[key] = [without_unknown(item, _EMAIL) for item in some[:1]] if some else value
        elif parts is not None and isinstance(value, list):
            kept[key] = [without_unknown(item, parts) if isinstance(item, dict) else item for item in value]
        elif key.casefold() == "active":
            kept[key] = _boolean(value)
        elif key.casefold() == "schemas" and isinstance(value, list):
            kept[key] = [item for item in value if str(item).startswith(_SCHEMAS)] or value
        else:
            kept[key] = value
    return kept


def _boolean(value: Any) -> bool:
    """Return a boolean; providers send the texts true and false, in any case, and anything else is an error."""
    if isinstance(value, bool):
        return value
    if isinstance(value, str) and value.casefold() in ("true", "false"):
        return value.casefold() == "true"
    raise InvalidValueException(detail="active is true or false.")


def _is_no_primary(address: Mapping[str, Any]) -> bool:
    return not any(key.casefold() == "primary" and said is True for key, said in address.items())


def _patch(data: dict[str, Any], known: frozenset[str]) -> dict[str, Any]:
    """Return a patch without what it says of attributes that are not kept here; booleans sent as texts are booleans."""
    name = next((key for key in data if key.casefold() == "operations"), None)
    if name is None or not isinstance(data[name], list):
        return data
    kept = []
    for operation in data[name]:
        if not isinstance(operation, dict):
            kept.append(operation)
            continue
        path = next((operation[key] for key in operation if key.casefold() == "path"), None)
        root = str(path) if isinstance(path, str) else ""
        root = root[len(EXTENSION) :] if root.startswith(EXTENSION) else root.rpartition(":")[2]
        first = root.lstrip(":").partition("[")[0].partition(".")[0].casefold() if root else ""
        first = EXTENSION.casefold() if isinstance(path, str) and path.startswith(EXTENSION) else first
        if first and first not in known:
            continue
        value = next((key for key in operation if key.casefold() == "value"), None)
        if value is not None and isinstance(operation[value], dict) and not first:
            operation = {**operation, value: _inside(_nested(operation[value], known))}  # noqa: PLW2901 (the same, trimmed)
            if not operation[value]:
                continue
        elif value is not None and first == "active":
            operation = {**operation, value: _boolean(operation[value])}  # noqa: PLW2901
        one = _ADDRESS.fullmatch(path) if value is not None and isinstance(path, str) else None
        if value is not None and one is not None and isinstance(operation[value], str):
            # a member has one address: which of several is meant makes no difference, and there may be none yet
            what = "emails" if one[1].casefold() == "emails" else "phoneNumbers"
            operation = {"op": "replace", "path": what, "value": [{"value": operation[value], "type": "work"}]}  # noqa: PLW2901
        kept.append(operation)
    return {**data, name: kept}


def _nested(value: Mapping[str, Any], known: frozenset[str]) -> dict[str, Any]:
    """Return the values of a patch without a path; ``name.familyName`` and its like are put together."""
    nested: dict[str, Any] = {}
    for key, item in value.items():
        root, dot, rest = key.partition(".")
        if dot and root.casefold() == "name" and rest.casefold() in _NAME:
            nested.setdefault("name", {})[rest] = item
        elif key.casefold() in known:
            nested[key] = _boolean(item) if key.casefold() == "active" else item
    return nested


def _wrong(status: int, detail: str) -> dict[str, Any]:
    return {"schemas": ["urn:ietf:params:scim:api:messages:2.0:Error"], "status": str(status), "detail": detail}


async def _send(send: Send, status: int, headers: Mapping[str, str], data: Any) -> None:
    body = b"" if data is None else json.dumps(data).encode()
    head = {"content-type": "application/scim+json", **{key.lower(): value for key, value in headers.items()}}
    head["content-length"] = str(len(body))
    await send(
        {
            "type": "http.response.start",
            "status": status,
            "headers": [(key.encode(), value.encode("latin-1", "replace")) for key, value in head.items()],
        }
    )
    await send({"type": "http.response.body", "body": body})
