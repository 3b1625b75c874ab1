"""Members put into a group or taken out of it one by one: what providers send most, without reading the whole group."""

from __future__ import annotations

import re
from collections.abc import Sequence
from http import HTTPStatus
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from scim2_server.handler import ScimHandler
from scim2_server.responses import ScimResponse
from scim2_server.routing import Operation

from ask_above.serve.provisioning import RegisterStorage

if TYPE_CHECKING:
    from scim2_server.requests import ScimRequest
    from scim2_server.service import ScimService

_ONE: Final = re.compile(r'members\[\s*value\s+eq\s+"([^"\\]*)"\s*\]', re.IGNORECASE)


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
        one = _ONE.fullmatch(path)
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
