"""Filters of SCIM (RFC 7644, 3.4.2.2) held against members themselves: no resource is made of who is not meant."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final

from scim2_models.path import CompareOperator, Comparison, LogicalExpr, LogicalOperator, Not, Present

from ask_above.people.recognising import user_name
from ask_above.people.register import OUT, Member

Test = Callable[[Member], bool]

_TEXTS: Final[dict[str, Callable[[Member], str]]] = {
    "username": user_name,
    "externalid": lambda member: member.external_id,
    "displayname": lambda member: member.name,
    "emails": lambda member: member.email,
    "emails.value": lambda member: member.email,
    "id": lambda member: member.key,
}
"""The attributes that are compared here, letter case aside; a filter of others is held against whole resources."""
_COMPARED: Final[dict[CompareOperator, Callable[[str, str], bool]]] = {
    CompareOperator.eq: lambda held, said: held == said,
    CompareOperator.ne: lambda held, said: held != said,
    CompareOperator.co: lambda held, said: said in held,
    CompareOperator.sw: str.startswith,
    CompareOperator.ew: str.endswith,
}


def test_of(node: Any) -> Test | None:
    """Return what tells whether a member matches a filter; ``None`` where it asks for something else of a resource."""
    match node:
        case Comparison(attr_path=path, op=op, value=value):
            return _compared(_named(path), op, value)
        case Present(attr_path=path):
            text = _TEXTS.get(_named(path))
            return None if text is None else lambda member: bool(text(member))
        case Not(expr=inner):
            test = test_of(inner)
            return None if test is None else lambda member: not test(member)
        case LogicalExpr(op=op, terms=terms):
            tests = [test for term in terms if (test := test_of(term)) is not None]
            if len(tests) < len(terms):
                return None
            every = all if op is LogicalOperator.and_ else any
            return lambda member: every(test(member) for test in tests)
    return None


def _named(path: Any) -> str:
    return ".".join(filter(None, (path.attr, path.sub_attr))).casefold()


def _compared(name: str, op: CompareOperator, value: Any) -> Test | None:
    if name == "active" and isinstance(value, bool) and op in (CompareOperator.eq, CompareOperator.ne):
        wanted = value is (op is CompareOperator.eq)
        return lambda member: (member.status not in OUT) is wanted
    text, compared = _TEXTS.get(name), _COMPARED.get(op)
    if text is None or compared is None or not isinstance(value, str):
        return None
    said = value.casefold()
    return lambda member: bool(held := text(member).casefold()) and compared(held, said)
