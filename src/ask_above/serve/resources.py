"""What identity providers call members and groups: the resources of SCIM, and what the service says of itself."""

from __future__ import annotations

from typing import Annotated, Any

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

EXTENSION = "urn:ask-above:params:scim:schemas:extension:register:1.0:User"
MOST_RESULTS = 200


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
