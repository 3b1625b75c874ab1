"""The register as SCIM resources: each write is a plan by the token's member, held to their reach and journalled."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Callable, Iterable, Mapping, Sequence
from collections.abc import Set as AbstractSet
from contextvars import ContextVar
from typing import Any, Final

from scim2_models import (
    ForbiddenException,
    InvalidValueException,
    Meta,
    MutabilityException,
    NotFoundException,
    Reference,
    Resource,
    ResourceType,
    ResponseParameters,
    SearchRequest,
    UniquenessException,
)
from scim2_models.path import CompareOperator, Comparison
from scim2_server.storage import ScimStorage, SearchPage

from ask_above.change import (
    Assign,
    Edit,
    EditError,
    GroupAdd,
    GroupRemove,
    GroupRename,
    MemberAdd,
    MemberGroups,
    MemberSet,
    MemberStatus,
    Unassign,
)
from ask_above.charter.names import SITE
from ask_above.community import Community
from ask_above.errors import AskAboveError, UnknownNameError
from ask_above.people.recognising import Known, Recogniser, TwoPeopleError, new_key, user_name
from ask_above.people.register import OUT, Member, Status, reached_groups
from ask_above.serve.current import Current
from ask_above.serve.reading import told
from ask_above.serve.resources import (
    Email,
    Group,
    GroupMember,
    Membership,
    Phone,
    RankHeld,
    RegisterUser,
    User,
    check_of,
)
from ask_above.show.letters import letters
from ask_above.store.keys import group_number, write_group_number
from ask_above.workspace.home import Home
from ask_above.workspace.plans import RefusedError, plan
from ask_above.workspace.storage import ChangedMeanwhileError
from ask_above.workspace.tokens import Token

ACTOR: ContextVar[Token | None] = ContextVar("actor", default=None)
"""Whose token the request at hand brings."""

log = logging.getLogger("ask_above.serve")


class MeanwhileError(Exception):
    """Somebody else changed the community while a request was read and made: it is tried again, on what they left."""


class UnavailableError(Exception):
    """The register cannot be written now; nothing was done."""


_FULL: Final = User[RegisterUser]


class RegisterStorage(ScimStorage):
    """Reads and writes members and groups as SCIM resources.

    What is read is the state that the service answers from; what is written is a plan, made at once and answered from
    before the response is given. ``tells``: a letter to each member whom a change concerns goes to the outbox.
    """

    def __init__(self, current: Current, *, tells: bool = False) -> None:
        self.current, self.tells = current, tells
        self._people = Recogniser()

    @property
    def community(self) -> Community:
        """The community as it is."""
        return self.current.now.state.community

    # -- reading

    def get(
        self,
        resource_type: ResourceType,
        resource_id: str,
        *,
        response_parameters: ResponseParameters[Any] | None = None,  # noqa: ARG002 (the server trims the response)
    ) -> Resource[Any]:
        """Return a resource; somebody retired is not there."""
        if resource_type.name == "User":
            return self._user(self._member(resource_id))
        return self._group(resource_id)

    def search(
        self,
        resource_types: list[ResourceType],
        search_request: SearchRequest[Any],
        *,
        position: Any = None,  # noqa: ARG002
    ) -> SearchPage:
        """Return a page of what matches, users first, in the order of the register and the charter."""
        names = [resource_type.name for resource_type in resource_types]
        start = search_request.start_index_0 or 0
        stop = None if search_request.count is None else start + search_request.count
        if search_request.filter is None:
            keys = self._ids(names)
            return SearchPage(len(keys), [self._resource(*each) for each in keys[start:stop]])
        test = check_of(search_request.filter.ast) if names == ["User"] else None
        candidates = self._named(names, search_request)
        if candidates is None and test is not None:
            members = self.community.register.members
            keys = [("User", key) for key, m in members.items() if not m.is_retired and test(m)]
            return SearchPage(len(keys), [self._resource(*each) for each in keys[start:stop]])
        candidates = self._ids(names) if candidates is None else candidates
        resources = [each for each in (self._resource(*one) for one in candidates) if search_request.filter.match(each)]
        return SearchPage(len(resources), resources[start:stop])

    def _ids(self, names: Sequence[str | None]) -> list[tuple[str, str]]:
        ids = []
        if "User" in names:
            members = self.community.register.members
            ids += [("User", key) for key, member in members.items() if not member.is_retired]
        if "Group" in names:
            charter = self.community.charter
            ids += [("Group", f"group:{key}") for key in charter.groups]
            ids += [("Group", f"rank:{key}") for key, rank in charter.ranks.items() if not rank.automatic]
        return ids

    def _named(self, names: Sequence[str | None], request: SearchRequest[Any]) -> list[tuple[str, str]] | None:
        """Return who alone can match where a user name or number is asked for: what providers ask before each write."""
        node = request.filter.ast if request.filter is not None else None
        if names != ["User"] or not isinstance(node, Comparison) or node.op != CompareOperator.eq:
            return None
        what = {"username": "user_name", "externalid": "external_id"}.get(
            str(node.attr_path).rpartition(":")[2].casefold()
        )
        if what is None or not isinstance(node.value, str):
            return None
        key = self._there(what, node.value)
        return [] if key is None else [("User", key)]

    def _there(self, what: str, value: str) -> str | None:
        """Return the key of who has a user name or an external id, in any case, and is not retired."""
        register = self.community.register
        keys = self._people.find(register, what, value.casefold())
        return next((key for key in keys if not register.members[key].is_retired), None)

    def _resource(self, kind: str, key: str) -> Resource[Any]:
        if kind == "User":
            return self._user(self.community.register.members[key])
        return self._group(key)

    def _member(self, key: str) -> Member:
        member = self.community.register.members.get(key)
        if member is None or member.is_retired:
            raise NotFoundException(detail=f"There is no User '{key}'.")
        return member

    def _user(self, member: Member) -> Resource[Any]:
        charter = self.community.charter
        given = self.community.register.of(member.key)
        groups = [
            Membership(value=f"group:{key}", display=charter.groups[key].title, type=_how(key, member))
            for key in reached_groups(charter, member)
            if key in charter.groups
        ]
        now = self.community.names.moment()
        groups += [
            Membership(value=f"rank:{e.rank}", display=charter.ranks[e.rank].title, type="direct")
            for e in given
            if e.place == SITE and e.period.contains(now) and e.rank in charter.ranks
        ]
        user = _FULL(
            id=member.key,
            external_id=member.external_id or None,
            user_name=user_name(member),
            display_name=member.name or None,
            emails=[Email(value=member.email, type="work")] if member.email else None,
            phone_numbers=[Phone(value=member.phone, type="work")] if member.phone else None,
            active=member.status not in OUT,
            groups=groups or None,
        )
        user[RegisterUser] = RegisterUser(
            key=member.key,
            kind=member.kind,
            status=member.status,
            joined=member.joined or None,
            assignments=[
                RankHeld(
                    rank=e.rank, place=e.place, since=e.period.said_from or None, until=e.period.said_until or None
                )
                for e in given
            ]
            or None,
        )
        resource: Resource[Any] = _versioned(user, "User")
        return resource

    def _group(self, key: str) -> Resource[Any]:
        title, keys = self._titled(key)
        some = [GroupMember(value=each, ref=Reference[User[Any]](f"Users/{each}"), type="User") for each in keys]
        group = Group(id=key, external_id=self._number(key) or None, display_name=title, members=some or None)
        group.meta = Meta(resource_type="Group", version=self._version(key, title, keys))
        return group

    def _titled(self, key: str) -> tuple[str, list[str]]:
        """Return what a group or rank is called, and who is in it."""
        kind, _, name = key.partition(":")
        charter, register = self.community.charter, self.community.register
        if kind == "group" and name in charter.groups:
            return charter.groups[name].title, self._people.find(register, "group", name)
        if kind == "rank" and name in charter.ranks and not charter.ranks[name].automatic:
            return charter.ranks[name].title, self._holders(name)
        raise NotFoundException(detail=f"There is no Group '{key}'.")

    def _version(self, key: str, title: str, keys: Sequence[str]) -> str:
        said = "\n".join((key, self._number(key), title, *keys))
        return _tag(said)

    def _number(self, key: str) -> str:
        """Return what others know a group or rank by: the charter has no field for it, the database keeps it.

        It is read each time: other workers write it too.
        """
        store = self.current.source.store
        return "" if store is None else group_number(store, key)

    def _set_number(self, key: str, wanted: Resource[Any]) -> None:
        number = str(wanted.external_id or "")
        store = self.current.source.store
        if store is not None and self._number(key) != number:
            write_group_number(store, key, number)

    def _holders(self, rank: str) -> list[str]:
        register, now = self.community.register, self.community.names.moment()
        return [
            key
            for key in self._people.find(register, "rank", rank)
            if any(e.rank == rank and e.place == SITE and e.period.contains(now) for e in register.of(key))
        ]

    # -- writing

    def create(self, resource_type: ResourceType, resource: Resource[Any]) -> Resource[Any]:
        """Add a member, or bring back who was retired under that user name; make a group."""
        with self.current.turn:
            if resource_type.name == "User":
                return self._create_user(resource)
            return self._create_group(resource)

    def update(
        self, resource_type: ResourceType, resource: Resource[Any], *, expected_version: str | None = None
    ) -> Resource[Any]:
        """Change a member or a group to what is sent; what is left out of what may be is taken out."""
        with self.current.turn:
            known = self.get(resource_type, str(resource.id))
            self._check_version(known, expected_version)
            if resource_type.name == "User":
                self._change(self._of_user(self._member(str(resource.id)), resource))
            else:
                self._change(self._of_group(str(resource.id), known, resource))
                self._set_number(str(resource.id), resource)
            return self.get(resource_type, str(resource.id))

    def move(
        self, key: str, come: AbstractSet[str], go: AbstractSet[str], check: Callable[[Resource[Any]], object]
    ) -> str:
        """Put members into a group, or give them a rank, and take others out; returns the version that it has then.

        ``check`` raises where whoever sends it knows another version of the group.
        """
        with self.current.turn:
            title, keys = self._titled(key)
            known = Group(id=key, display_name=title)
            known.meta = Meta(resource_type="Group", version=self._version(key, title, keys))
            check(known)
            self._change(self._moved(key, come - set(keys), go & set(keys)))
            return self._version(key, *self._titled(key))

    def delete(self, resource_type: ResourceType, resource_id: str, *, expected_version: str | None = None) -> None:
        """Retire a member; remove a group."""
        with self.current.turn:
            known = self.get(resource_type, resource_id)
            self._check_version(known, expected_version)
            if resource_type.name == "User":
                self._change([MemberStatus(resource_id, "retired", "keep")])
            elif resource_id.startswith("rank:"):
                raise MutabilityException(detail="A rank is part of the charter and cannot be deleted from here.")
            else:
                self._change([GroupRemove(resource_id.partition(":")[2])])
                self._set_number(resource_id, Group())

    def _create_user(self, wanted: Any) -> Resource[Any]:
        name = str(wanted.user_name or "").strip()
        if not name:
            raise InvalidValueException(detail="userName must not be empty.")
        register, fields = self.community.register, _fields(wanted)
        try:
            known = self._people.who(register, Known("", fields["external_id"], name))
        except TwoPeopleError as error:
            raise UniquenessException(detail=str(error)) from None
        if known is not None and not register.members[known].is_retired:
            raise UniquenessException(detail=f"There is a User with the userName '{name}' or that externalId already.")
        if known is not None:
            member = register.members[known]
            edits: list[Edit] = [MemberStatus(member.key, "active")]
            edits += self._of_user(member._replace(status=member.restored), wanted)
            self._change(edits)
            return self._user(self._member(member.key))
        if fields["email"] and self._people.find(register, "email", fields["email"].casefold()):
            raise UniquenessException(detail=f"There is a User with the address '{fields['email']}' already.")
        key = new_key(name.partition("@")[0], {*register.members, *self.community.charter.ranks})
        fields = {"user_name": name, **fields}
        self._change([MemberAdd(key, {field: value for field, value in fields.items() if value})])
        if wanted.active is False:  # who joins is given ranks, and is locked after that
            self._change([MemberStatus(key, "locked")])
        return self._user(self._member(key))

    def _of_user(self, member: Member, wanted: Any) -> list[Edit]:
        """Return the edits that make a member what is wanted."""
        name = str(wanted.user_name or "").strip()
        if not name:
            raise InvalidValueException(detail="userName must not be empty.")
        other = name.casefold() != user_name(member).casefold()
        if other and self._there("user_name", name) is not None:
            raise UniquenessException(detail=f"There is a User with the userName '{name}' already.")
        fields = _fields(wanted)
        if name != user_name(member):
            fields["user_name"] = name
        now = {name: getattr(member, name) for name in ("name", "email", "phone", "external_id")}
        changed = {field: value for field, value in fields.items() if now.get(field, member.user_name) != value}
        edits: list[Edit] = [MemberSet(member.key, changed)] if changed else []
        if wanted.active is False and member.status not in OUT:
            edits.append(MemberStatus(member.key, "locked"))
        elif wanted.active is True and member.status == Status.LOCKED:
            edits.append(MemberStatus(member.key, "active"))
        return edits

    def _create_group(self, wanted: Any) -> Resource[Any]:
        title = str(wanted.display_name or "").strip()
        charter = self.community.charter
        titles = {group.title.casefold() for group in charter.groups.values()}
        titles |= {rank.title.casefold() for rank in charter.ranks.values()}
        if title.casefold() in titles:
            raise UniquenessException(detail=f"There is a group or rank called '{title}' already.")
        key = new_key(title, {*charter.groups, *charter.ranks}, instead="group")
        members = [str(member.value) for member in wanted.members or () if member.value]
        self._check_members(members)
        self._change([GroupAdd(key, {"title": title}), *(MemberGroups(m, put=(key,)) for m in members)])
        self._set_number(f"group:{key}", wanted)
        return self._group(f"group:{key}")

    def _of_group(self, key: str, known: Any, wanted: Any) -> list[Edit]:
        kind, _, name = key.partition(":")
        was = {str(member.value) for member in known.members or ()}
        will = {str(member.value) for member in wanted.members or () if member.value}
        edits: list[Edit] = []
        title = str(wanted.display_name or "").strip()
        if kind == "rank" and wanted.display_name != known.display_name:
            raise MutabilityException(detail="A rank's title is part of the charter and is not changed from here.")
        if kind == "group" and title and title != known.display_name:
            edits.append(GroupRename(name, title))
        return edits + self._moved(key, will - was, was - will)

    def _moved(self, key: str, come: AbstractSet[str], go: AbstractSet[str]) -> list[Edit]:
        """Return the edits that put members into a group or take them out, or give and take a rank."""
        kind, _, name = key.partition(":")
        self._check_members(sorted(come))
        if kind == "rank":
            rank = self.community.charter.ranks[name]
            token = ACTOR.get()
            if rank.kept_by and (come or go) and (token is None or rank.kept_by.casefold() != token.name.casefold()):
                kept = f"{rank.called} is kept by {rank.kept_by}; nobody here gives or takes it."
                raise MutabilityException(detail=kept)
            return [*(Assign(member, name) for member in sorted(come)), *(Unassign(m, name) for m in sorted(go))]
        edits: list[Edit] = [MemberGroups(member, put=(name,)) for member in sorted(come)]
        return edits + [MemberGroups(member, take=(name,)) for member in sorted(go)]

    def _check_members(self, keys: Sequence[str]) -> None:
        for key in keys:
            member = self.community.register.members.get(key)
            if member is None or member.is_retired:
                raise InvalidValueException(detail=f"There is no User '{key}'.")

    @staticmethod
    def _check_version(known: Resource[Any], expected: str | None) -> None:
        version = known.meta.version if known.meta else None
        if expected is not None and expected != version:
            raise MeanwhileError  # without a precondition that is tried again

    def _change(self, edits: Sequence[Edit]) -> None:
        """Make a change as the token's member, and answer from what it leaves."""
        if not edits:
            return
        token = ACTOR.get()
        if token is None or not token.member:
            raise ForbiddenException(detail="Only a token that acts as a member may change anybody.")
        try:
            made = plan(self._home(), edits, by=token.member, why=f"by the token {token.name}")
            made.source = token.name
            if not made.is_empty:
                made.apply(letters=letters(made) if self.tells else ())
        except RefusedError as error:
            if any(reason.endswith("9.16]") for reason in error.reasons):
                raise UniquenessException(detail=" ".join(error.reasons)) from None
            raise ForbiddenException(detail=" ".join([str(error), *error.reasons])) from None
        except (EditError, UnknownNameError) as error:
            raise InvalidValueException(detail=str(error)) from None
        except ChangedMeanwhileError:
            raise MeanwhileError from None
        # whatever else goes wrong is no fault of the request: a provider may send it again
        except (AskAboveError, OSError) as error:
            log.warning("a write by provisioning failed", extra={"fault": told(error)})
            raise UnavailableError from None
        self.current.look()

    def _home(self) -> Home:
        """Return where changes are made; raises where there is no folder for them."""
        home = self.current.source.home
        if home is None:
            raise ForbiddenException(
                detail="This service has no folder to change: it answers from memory, or from a database alone. "
                "Provisioning goes to a service that was started on the community's folder."
            )
        return home


def _fields(wanted: Any) -> dict[str, str]:
    """Return what the register keeps of a user that is sent."""
    name = wanted.display_name or ""
    if not name and wanted.name is not None:
        parts = (wanted.name.given_name, wanted.name.family_name)
        name = wanted.name.formatted or " ".join(part for part in parts if part)
    return {
        "name": str(name).strip(),
        "email": _first(wanted.emails),
        "phone": _first(wanted.phone_numbers),
        "external_id": str(wanted.external_id or ""),
    }


def _first(values: Iterable[Any] | None) -> str:
    """Return the first of several addresses or numbers; a member has one."""
    return next((str(each.value).strip() for each in values or () if each.value), "")


def _how(key: str, member: Member) -> str:
    return "direct" if key in member.groups else "indirect"


def _versioned(resource: Any, kind: str) -> Any:
    """Return a resource with a version that changes where it does."""
    resource.meta = Meta(resource_type=kind, version=_tag(resource.model_dump_json(exclude_none=True)))
    return resource


def _tag(said: str) -> str:
    return f'W/"{hashlib.sha256(said.encode("utf-8")).hexdigest()[:16]}"'


def without_unknown(data: Mapping[str, Any], known: frozenset[str]) -> dict[str, Any]:
    """Return what was sent of a resource without what is not kept here: providers send all that they know."""
    return {key: value for key, value in data.items() if key.casefold() in known or key.startswith("$")}
