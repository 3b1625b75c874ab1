"""Filters of SCIM (RFC 7644, 3.4.2.2) held against members themselves: no resource is made of who is not meant."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final

from scim2_models.path import CompareOperator, Comparison, LogicalExpr, LogicalOperator, Not, Present, ValuePath

from ask_above.people.recognising import user_name
from ask_above.people.register import OUT, Member

Test = Callable[[Member], bool]

_TEXTS: Final[dict[str, Callable[[Member], str]]] = {
    "username": user_name,
    "externalid": lambda member: member.external_id,
    "displayname": lambda member: member.name,
    "emails": lambda member: member.email,
    "emails.value": lambda member: member.email,
    "phonenumbers": lambda member: member.phone,
    "phonenumbers.value": lambda member: member.phone,
    "id": lambda member: member.key,
}
"""The attributes that are compared here; a filter of others is held against whole resources."""
_EXACT: Final = frozenset({"externalid", "id"})
"""Where letter case counts (RFC 7643, 3.1)."""
_COMPARED: Final[dict[CompareOperator, Callable[[str, str], bool]]] = {
    CompareOperator.eq: lambda held, said: held == said,
    CompareOperator.ne: str.__ne__,
    CompareOperator.co: lambda held, said: said in held,
    CompareOperator.sw: str.startswith,
    CompareOperator.ew: str.endswith,
    CompareOperator.gt: str.__gt__,
    CompareOperator.ge: str.__ge__,
    CompareOperator.lt: str.__lt__,
    CompareOperator.le: str.__le__,
}


def check_of(node: Any, within: str = "") -> Test | None:
    """Return what tells whether a member matches a filter; ``None`` where it asks for something else of a resource.

    ``within`` is the attribute whose values the filter is about, as in ``emails[value pr]``: there is one address.
    """
    match node:
        case Comparison(attr_path=path, op=op, value=value):
            return _compared(_named(path, within), op, value)
        case Present(attr_path=path):
            text = _TEXTS.get(_named(path, within))
            return None if text is None else lambda member: bool(text(member))
        case ValuePath(attr_path=path, val_filter=inner, sub_attr=None) if _named(path, within) == "emails":
            of_value, there = check_of(inner, "emails"), _TEXTS["emails"]
            return None if of_value is None else lambda member: bool(there(member)) and of_value(member)
        case Not(expr=inner):
            test = check_of(inner, within)
            return None if test is None else lambda member: not test(member)
        case LogicalExpr(op=op, terms=terms):
            tests = [test for term in terms if (test := check_of(term, within)) is not None]
            if len(tests) < len(terms):
                return None
            every = all if op is LogicalOperator.and_ else any
            return lambda member: every(test(member) for test in tests)
    return None


def _named(path: Any, within: str) -> str:
    return ".".join(filter(None, (within, path.attr, path.sub_attr))).casefold()


def _compared(name: str, op: CompareOperator, value: Any) -> Test | None:
    if name == "active" and isinstance(value, bool) and op in (CompareOperator.eq, CompareOperator.ne):
        wanted = value is (op is CompareOperator.eq)
        return lambda member: (member.status not in OUT) is wanted
    text, compared = _TEXTS.get(name), _COMPARED.get(op)
    if text is None or compared is None or not isinstance(value, str):
        return None
    fold = str if name in _EXACT else str.casefold
    said = fold(value)
    if op is CompareOperator.ne:  # what is not there is another too
        return lambda member: fold(text(member)) != said
    return lambda member: bool(held := fold(text(member))) and compared(held, said)
