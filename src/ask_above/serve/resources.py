"""What identity providers call members and groups: the resources of SCIM, filters, what the service says of itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Final

from pydantic import Field
from scim2_models import (
    URN,
    AnyExtension,
    AuthenticationScheme,
    Bulk,
    CaseExact,
    ChangePassword,
    ComplexAttribute,
    ETag,
    Extension,
    External,
    Filter,
    Mutability,
    Patch,
    Reference,
    Required,
    Resource,
    ResourceType,
    Returned,
    ScimProvider,
    ServiceProviderConfig,
    Sort,
    Uniqueness,
)
from scim2_models.path import CompareOperator, Comparison, LogicalExpr, LogicalOperator, Not, Present, ValuePath

from ask_above.people.recognising import user_name
from ask_above.people.register import OUT, Member

EXTENSION = "urn:ask-above:params:scim:schemas:extension:register:1.0:User"
MOST_RESULTS = 200
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


class Name(ComplexAttribute):
    """The parts of a name, from which a display name is put together where none is sent."""

    formatted: Annotated[str | None, Mutability.write_only, Returned.never] = None
    """The whole name."""

    family_name: Annotated[str | None, Mutability.write_only, Returned.never] = None
    """The last name."""

    given_name: Annotated[str | None, Mutability.write_only, Returned.never] = None
    """The first name."""


class Email(ComplexAttribute):
    """An address; a member has one: the primary, else the first."""

    value: str | None = None
    """The address."""

    type: str | None = Field(None, examples=["work"])
    """What it is for; always work in answers."""


class Phone(ComplexAttribute):
    """A telephone number; a member has one: the primary, else the first."""

    value: str | None = None
    """The number."""

    type: str | None = Field(None, examples=["work"])
    """What it is for; always work in answers."""


class Membership(ComplexAttribute):
    """A group or rank that a member is in."""

    value: Annotated[str | None, Mutability.read_only, CaseExact.true] = None
    """The id of the Group."""

    display: Annotated[str | None, Mutability.read_only] = None
    """Its title."""

    type: Annotated[str | None, Mutability.read_only] = None
    """direct, or indirect for what another group brings."""


class User(Resource[AnyExtension]):
    """A member."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:User")

    user_name: Annotated[str | None, Uniqueness.server, Required.true] = None
    """What the member signs in with, unique whatever its case."""

    name: Annotated[Name | None, Mutability.write_only, Returned.never] = None
    """The parts of the name; only the display name is kept."""

    display_name: str | None = None
    """The name."""

    emails: list[Email] | None = None
    """The address."""

    phone_numbers: list[Phone] | None = None
    """The telephone number."""

    active: bool | None = None
    """False for who is locked; setting it locks and brings back, and never vouches for who waits."""

    groups: Annotated[list[Membership] | None, Mutability.read_only] = None
    """The groups and ranks that the member is in."""


class RankHeld(ComplexAttribute):
    """A rank that somebody was given."""

    rank: Annotated[str | None, Mutability.read_only, CaseExact.true] = None
    """The rank's key."""

    place: Annotated[str | None, Mutability.read_only, CaseExact.true] = None
    """Where."""

    since: Annotated[str | None, Mutability.read_only] = None
    """From when on."""

    until: Annotated[str | None, Mutability.read_only] = None
    """Until when."""


class RegisterUser(Extension):
    """What the register says besides, to be read."""

    __schema__ = URN(EXTENSION)

    key: Annotated[str | None, Mutability.read_only, CaseExact.true] = None
    """The member's key."""

    kind: Annotated[str | None, Mutability.read_only] = None
    """person or bot."""

    status: Annotated[str | None, Mutability.read_only] = None
    """invited, pending, active or locked."""

    joined: Annotated[str | None, Mutability.read_only] = None
    """Since when."""

    assignments: Annotated[list[RankHeld] | None, Mutability.read_only] = None
    """The ranks given, where and when."""


class GroupMember(ComplexAttribute):
    """A member of a group, or a holder of a rank on the whole site."""

    value: Annotated[str | None, Mutability.immutable, CaseExact.true] = None
    """The id of the User."""

    ref: Annotated[Reference[User[Any]] | None, Mutability.immutable] = Field(
        None, serialization_alias="$ref", validation_alias="$ref"
    )
    """Where the User is."""

    type: Annotated[str | None, Mutability.immutable] = Field(None, examples=["User"])
    """Always User."""


class Group(Resource[Any]):
    """A group of members, ``group:KEY``, or a rank on the whole site, ``rank:KEY``."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:Group")

    display_name: Annotated[str | None, Required.true] = None
    """Its title."""

    members: list[GroupMember] | None = None
    """Who is in it, or holds it on the whole site."""


def provider() -> ScimProvider:
    """Return what the service says of itself."""
    config = ServiceProviderConfig(
        patch=Patch(supported=True),
        bulk=Bulk(supported=False, max_operations=0, max_payload_size=0),
        filter=Filter(supported=True, max_results=MOST_RESULTS),
        change_password=ChangePassword(supported=False),
        sort=Sort(supported=False),
        etag=ETag(supported=True),
        authentication_schemes=[
            AuthenticationScheme(
                type=AuthenticationScheme.Type.oauthbearertoken,
                name="Bearer token",
                description="ask-above token add NAME --as MEMBER --may provision",
                spec_uri=Reference[External]("https://datatracker.ietf.org/doc/html/rfc6750"),
                primary=True,
            )
        ],
    )
    return ScimProvider(
        models=[User, RegisterUser, Group],
        resource_types=[ResourceType.from_resource(User[RegisterUser]), ResourceType.from_resource(Group)],
        config=config,
    )


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
        return lambda member: not text(member) or fold(text(member)) != said
    return lambda member: bool(held := fold(text(member))) and compared(held, said)
