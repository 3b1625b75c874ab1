"""A request of the protocol as a question to a community: whose, what, on what, when. Names are keys, exactly."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from ask_above.charter.names import SITE, as_rank, nearest
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.community import Community
from ask_above.decide.acts import GOES_WITH
from ask_above.decide.answer import Answer
from ask_above.decide.decider import VISITOR
from ask_above.errors import AskAboveError


class RequestError(AskAboveError, ValueError):
    """A request that cannot be meant: ``status`` is 400, or 404 for a name that nothing has; ``nearest`` are names."""

    def __init__(self, message: str, status: int = 400, near: tuple[str, ...] = ()) -> None:
        super().__init__(message)
        self.status, self.nearest = status, near

    def as_data(self) -> dict[str, Any]:
        """Return what an answer's context says of it."""
        found: dict[str, Any] = {"status": self.status, "message": str(self)}
        return found | {"nearest": list(self.nearest)} if self.nearest else found


class Question(NamedTuple):
    """A question: ``who`` as a community takes it, ``name`` of a capability or act, and what belongs to it."""

    who: str
    name: str
    place: str
    target: str | None = None
    author: str | None = None
    to: str | None = None
    of: str | None = None
    using: str | None = None
    when: datetime | None = None

    def put(self, community: Community) -> Answer:
        """Answer it."""
        name, target = self.name, self.target
        if target is None:
            return community.may(self.who, name, at=self.place, author=self.author, when=self.when)
        return community.may_act(
            self.who, name, target, at=self.place, to=self.to, of=self.of, using=self.using, when=self.when
        )


class Reader:
    """Reads requests against the names of one community."""

    def __init__(self, community: Community) -> None:
        self.community = community
        self.members, self.charter = community.register.members, community.charter
        self._capabilities = {*self.charter.catalogue.keys, *self.charter.catalogue.pairs}
        self._by_address: dict[str, list[str]] | None = None

    def question(self, data: Mapping[str, Any]) -> Question:
        """Read a whole question; raises :class:`RequestError`."""
        subject, action, resource = (entity(data, each) for each in ("subject", "action", "resource"))
        return self.with_resource(
            Question(self.subject(subject), self.action(action), SITE, when=moment(data)), action, resource
        )

    def subject(self, subject: Mapping[str, Any]) -> str:
        """Return who asks, as a community takes it."""
        kind, key = text(subject, "subject", "type"), text(subject, "subject", "id")
        if kind == "member":
            return key if key in self.members else self.member(key, "subject")
        if kind == "rank":
            return as_rank(self._known(key, self.charter.ranks, "rank"))
        if kind == "visitor":
            return VISITOR
        raise RequestError(f"There are subjects of the types member, rank and visitor, and none of the type '{kind}'.")

    def action(self, action: Mapping[str, Any]) -> str:
        """Return the name of a capability, or of an act."""
        name = text(action, "action", "name")
        if name in self._capabilities or name in ACT_WORDS:
            return name
        raise RequestError(f"There is no action '{name}'.", 404, nearest(name, [*self._capabilities, *ACT_WORDS]))

    def with_resource(self, asked: Question, action: Mapping[str, Any], resource: Mapping[str, Any]) -> Question:
        """Return the question with what it is about."""
        kind, key = text(resource, "resource", "type"), text(resource, "resource", "id")
        fields = properties(resource, "resource")
        if asked.name not in ACT_WORDS:
            if kind != "place":
                raise RequestError(f"'{asked.name}' is asked about a resource of the type place, not '{kind}'.")
            return self.with_author(asked._replace(place=self.place(key)), fields)
        if kind not in ("member", "rank") or (kind == "member" and asked.name != Act.MODERATE):
            wanted = "member or rank" if asked.name == Act.MODERATE else "rank"
            raise RequestError(f"'{asked.name}' is asked about a resource of the type {wanted}, not '{kind}'.")
        target = self.member(key, "resource") if kind == "member" else as_rank(self.rank(key))
        return self.with_act(asked._replace(target=target), action, fields)

    def with_author(self, asked: Question, said: Mapping[str, Any]) -> Question:
        """Return a question about a capability with whose the thing is."""
        author = optional(said, "resource.properties.author", "author")
        return asked if author is None else asked._replace(author=self.member(author, "resource.properties.author"))

    def with_act(self, asked: Question, action: Mapping[str, Any], said: Mapping[str, Any]) -> Question:
        """Return a question about an act with where, to or from whom, and using what."""
        at = optional(said, "resource.properties.at", "at")
        to, of = optional(said, "resource.properties.to", "to"), optional(said, "resource.properties.of", "of")
        using = optional(properties(action, "action"), "action.properties.using", "using")
        if using is not None and using not in self.charter.catalogue.bit:
            near = nearest(using, self.charter.catalogue.keys)
            raise RequestError(f"There is no capability '{using}'.", 404, near)
        if asked.name == Act.UNASSIGN and of is None:
            raise RequestError("'unassign' needs resource.properties.of: from whom.")
        of_acts: dict[str, Any] = {
            "to": None if to is None else self.member(to, "resource.properties.to"),
            "of": None if of is None else self.member(of, "resource.properties.of"),
            "using": using,
        }
        # a search puts every act with the same properties: what belongs to another act is passed over
        more = {word: value for word, value in of_acts.items() if GOES_WITH[word] == asked.name}
        return asked._replace(place=SITE if at is None else self.place(at), **more)

    def place(self, key: str) -> str:
        """Return a place's key."""
        return self._known(key, self.charter.places, "place")

    def rank(self, key: str) -> str:
        """Return a rank's key."""
        return self._known(key, self.charter.ranks, "rank")

    def member(self, said: str, where: str) -> str:
        """Return a member's key: said by it, or by an address that one member alone has."""
        if said in self.members:
            return said
        if "@" in said:
            if self._by_address is None:
                self._by_address = {}
                for key, member in self.members.items():
                    if member.email:
                        self._by_address.setdefault(member.email.casefold(), []).append(key)
            found = self._by_address.get(said.casefold(), [])
            if len(found) == 1:
                return found[0]
            if found:
                raise RequestError(f"{where}: several members have this address; say the key of one.")
            raise RequestError(f"{where}: no member has this address.", 404)
        raise RequestError(f"{where}: there is no member '{said}'.", 404, nearest(said, self.members))

    @staticmethod
    def _known(key: str, known: Mapping[str, object], what: str) -> str:
        if key not in known:
            raise RequestError(f"There is no {what} '{key}'.", 404, nearest(key, known))
        return key


def entity(data: Mapping[str, Any], name: str) -> Mapping[str, Any]:
    """Return a member of a request that is an object."""
    found = data.get(name)
    if not isinstance(found, dict):
        raise RequestError(f"'{name}' must be an object{'' if name in data else ', and is missing'}.")
    return found


def text(data: Mapping[str, Any], where: str, name: str) -> str:
    """Return a text that must be there."""
    found = data.get(name)
    if not isinstance(found, str) or not found:
        raise RequestError(f"'{where}.{name}' must be a text{'' if name in data else ', and is missing'}.")
    return found


def properties(data: Mapping[str, Any], where: str) -> Mapping[str, Any]:
    """Return an entity's properties; none where it says none."""
    given = data.get("properties")
    if given is None:
        return {}
    if not isinstance(given, dict):
        raise RequestError(f"'{where}.properties' must be an object.")
    return given


def optional(data: Mapping[str, Any], where: str, name: str) -> str | None:
    """Return a text that may be missing."""
    given = data.get(name)
    if given is None:
        return None
    if not isinstance(given, str) or not given:
        raise RequestError(f"'{where}' must be a text.")
    return given


def context(data: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return a request's context; none where it says none."""
    given = data.get("context")
    if given is None:
        return {}
    if not isinstance(given, dict):
        raise RequestError("'context' must be an object.")
    return given


def moment(data: Mapping[str, Any]) -> datetime | None:
    """Return ``context.time``, which is RFC 3339; ``None`` for now."""
    text = context(data).get("time")
    if text is None:
        return None
    try:
        read = datetime.fromisoformat(text.upper()) if isinstance(text, str) else None
    except ValueError:
        read = None
    if read is None or read.tzinfo is None or len(str(text)) <= len("2026-01-01"):
        raise RequestError("'context.time' must be a moment as in RFC 3339, such as 2026-11-26T18:30:00Z.")
    return read
