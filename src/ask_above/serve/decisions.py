"""The protocol's answers: one evaluation, several, and the three searches. Every answer is the community's own."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from enum import StrEnum
from typing import Any, Final, NamedTuple, TypeVar

from ask_above.charter.names import SITE, as_rank
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.community import Community
from ask_above.decide.answer import Answer
from ask_above.decide.decider import VISITOR
from ask_above.errors import AskAboveError, UnknownNameError
from ask_above.serve.asking import Question, Reader, RequestError, context, entity, moment, properties, text
from ask_above.serve.paging import Pages

MOST_ITEMS: Final = 1000
"""How many evaluations one request may hold."""


class Explain(StrEnum):
    """How much of the reasons a request asks for."""

    NOTHING = ""
    USER = "user"
    ADMIN = "admin"
    ALL = "all"


class Semantic(StrEnum):
    """When several evaluations stop."""

    EXECUTE_ALL = "execute_all"
    DENY_ON_FIRST_DENY = "deny_on_first_deny"
    PERMIT_ON_FIRST_PERMIT = "permit_on_first_permit"


class Decided(NamedTuple):
    """One decision for the record: what was asked, and the answer; ``asked`` is ``None`` for what cannot be meant."""

    asked: Question | None
    allowed: bool


T = TypeVar("T")
Heard = Callable[[Decided], None]


class Decisions:
    """Answers the protocol's requests for one state of a community."""

    def __init__(self, community: Community, pages: Pages) -> None:
        self.community, self.pages = community, pages
        self.reader = Reader(community)

    # -- evaluations

    def evaluation(self, data: Mapping[str, Any], heard: Heard) -> dict[str, Any]:
        """Answer one evaluation; raises :class:`RequestError` where the request cannot be meant."""
        try:
            explain = _explain(data)
            asked = self.reader.question(data)
            answer = asked.put(self.community)
        except (RequestError, AskAboveError) as error:
            wrong = _as_request(error)
            heard(Decided(None, False))
            if wrong.status != 404:  # noqa: PLR2004
                raise wrong from None
            return {"decision": False, "context": {"error": wrong.as_data()}}
        heard(Decided(asked, answer.allowed))
        if explain is Explain.NOTHING:
            return {"decision": answer.allowed}
        return {"decision": answer.allowed, "context": self._reasons(asked, answer, explain)}

    def evaluations(self, data: Mapping[str, Any], heard: Heard) -> dict[str, Any]:
        """Answer several in order, each with the request's own members where it says none."""
        items = data.get("evaluations")
        if items is None or items == []:
            return self.evaluation(data, heard)
        if not isinstance(items, list):
            raise RequestError("'evaluations' must be a list.")
        if len(items) > MOST_ITEMS:
            raise RequestError(
                f"{len(items)} evaluations are more than the {MOST_ITEMS} that one request may hold.", 413
            )
        semantic = _semantic(data)
        defaults = {key: data[key] for key in ("subject", "action", "resource", "context") if key in data}
        decisions = []
        for item in items:
            try:
                if not isinstance(item, dict):
                    raise RequestError("An evaluation must be an object.")  # noqa: TRY301
                one = self.evaluation({**defaults, **item}, heard)
            except RequestError as error:
                one = {"decision": False, "context": {"error": error.as_data()}}
            decisions.append(one)
            if semantic is Semantic.DENY_ON_FIRST_DENY and not one["decision"]:
                break
            if semantic is Semantic.PERMIT_ON_FIRST_PERMIT and one["decision"]:
                break
        return {"evaluations": decisions}

    def _reasons(self, asked: Question, answer: Answer, explain: Explain) -> dict[str, Any]:
        reasons: dict[str, Any] = {"reason_user": {"en": self._for_the_user(asked, answer)}}
        if explain is not Explain.USER:
            reasons["reason_admin"] = {"en": answer.reason}
        if explain is Explain.ALL:
            reasons["account"] = answer.as_data()
        return reasons

    def _for_the_user(self, asked: Question, answer: Answer) -> str:
        """Say it in a sentence without what whoever asked may not see: a rule, rank, person, closed place."""
        may = "You may" if answer else "You may not"
        if asked.target is not None:
            return f"{may} do this."
        about = self._about(asked.name)
        seeing = self.community.charter.rules.seeing
        seen = seeing is None or self.community.may(asked.who, seeing, at=asked.place, when=asked.when)
        place = self.community.charter.places[asked.place]
        where = f" in {place.called}" if seen and asked.place != SITE else ""
        return f"{may} do this here: {about}{where}." if about else f"{may} do this{where or ' here'}."

    def _about(self, name: str) -> str:
        catalogue = self.community.charter.catalogue
        known = catalogue.capabilities.get(name) or catalogue.capabilities[catalogue.pairs[name][0]]
        about = known.about
        return about[:1].lower() + about[1:] if about[1:2].islower() else about

    # -- searches

    def subjects(self, data: Mapping[str, Any]) -> dict[str, Any]:
        """Return who may, page by page, in the order of their ids."""
        subject, action, resource = (entity(data, each) for each in ("subject", "action", "resource"))
        kind, name = text(subject, "subject", "type"), self._action(action)
        asked = self._about_resource(Question(VISITOR, name, SITE, when=moment(data)), action, resource)
        if kind == "visitor":
            ids: Iterable[str] = [VISITOR] if asked.put(self.community) else []
        elif kind == "rank":
            ranks = self.community.charter.ranks
            ids = [key for key in ranks if asked._replace(who=as_rank(key)).put(self.community)]
        elif kind == "member":
            ids = self._members(asked)
        else:
            raise RequestError(f"There are subjects of the types member, rank and visitor, and none of '{kind}'.")
        return self.pages.page(data, "subject", [{"type": kind, "id": key} for key in sorted(ids)])

    def _members(self, asked: Question) -> list[str]:
        where: dict[str, Any] = {"at": asked.place, "when": asked.when}
        if asked.target is not None:
            target = asked.target
            more: dict[str, Any] = {"to": asked.to, "of": asked.of, "using": asked.using}
            table = self.community.who(
                asked.name, target.removeprefix("rank:") if asked.name != Act.MODERATE else target, **where, **more
            )
            return [str(each) for each in table["member"]]
        able = {str(each) for each in self.community.who(asked.name, **where)["member"]}
        # whose it is may do to it what one may to one's own
        if asked.author is not None and asked._replace(who=asked.author).put(self.community):
            able.add(asked.author)
        elif asked.author is not None:
            able.discard(asked.author)
        return [*able]

    def resources(self, data: Mapping[str, Any]) -> dict[str, Any]:
        """Return the places, or for an act the members or ranks, that somebody may do it to."""
        subject, action, resource = (entity(data, part) for part in ("subject", "action", "resource"))
        who, name, kind = self._subject(subject), self._action(action), text(resource, "resource", "type")
        asked = Question(who, name, SITE, when=moment(data))
        properties_given = properties(resource, "resource")
        charter = self.community.charter
        if name not in ACT_WORDS:
            if kind != "place":
                raise RequestError(f"'{name}' is asked about resources of the type place, not '{kind}'.")
            asked = self._named(lambda: self.reader.with_author(asked, properties_given))
            ids: Iterable[str] = self.community.where(who, name, author=asked.author, when=asked.when)
        elif kind == "rank" or (kind == "member" and name == Act.MODERATE):
            asked = self._named(lambda: self.reader.with_act(asked, action, properties_given))
            targets = [as_rank(key) for key in charter.ranks] if kind == "rank" else [*self.reader.members]
            ids = [target for target in targets if asked._replace(target=target).put(self.community)]
        else:
            raise RequestError(f"'{name}' is asked about resources of the type rank, not '{kind}'.")
        keys = sorted(part.removeprefix("rank:") for part in ids)
        return self.pages.page(data, "resource", [{"type": kind, "id": key} for key in keys])

    def actions(self, data: Mapping[str, Any]) -> dict[str, Any]:
        """Return what somebody may do: capabilities at a place, or the acts on a member or a rank."""
        subject, resource = entity(data, "subject"), entity(data, "resource")
        who, kind = self._subject(subject), text(resource, "resource", "type")
        catalogue = self.community.charter.catalogue
        names = [*catalogue.keys, *catalogue.pairs] if kind == "place" else _acts_on(kind, resource)
        if not names:
            raise RequestError(f"There are resources of the types place, member and rank, and none of '{kind}'.")
        able = []
        for name in names:
            asked = self._about_resource(Question(who, name, SITE, when=moment(data)), {}, resource)
            # a bare name stands for one's own or for all only where it is told whose the thing is
            if (name not in catalogue.pairs or asked.author is not None) and asked.put(self.community):
                able.append(name)
        return self.pages.page(data, "action", [{"name": name} for name in sorted(able)])

    # -- names that a search is told; an unknown one is an error of the request

    def _subject(self, subject: Mapping[str, Any]) -> str:
        return self._named(lambda: self.reader.subject(subject))

    def _action(self, action: Mapping[str, Any]) -> str:
        return self._named(lambda: self.reader.action(action))

    def _about_resource(self, asked: Question, action: Mapping[str, Any], resource: Mapping[str, Any]) -> Question:
        return self._named(lambda: self.reader.with_resource(asked, action, resource))

    @staticmethod
    def _named(read: Callable[[], T]) -> T:
        try:
            return read()
        except RequestError as error:
            raise RequestError(_with_nearest(error)) from None


def _acts_on(kind: str, resource: Mapping[str, Any]) -> list[str]:
    if kind == "member":
        return [Act.MODERATE]
    of = properties(resource, "resource").get("of")
    return [act for act in ACT_WORDS if kind == "rank" and (act != Act.UNASSIGN or of is not None)]


def _with_nearest(error: RequestError) -> str:
    return f"{error} Nearest: {', '.join(error.nearest)}." if error.nearest else str(error)


def _as_request(error: AskAboveError) -> RequestError:
    if isinstance(error, RequestError):
        return error
    if isinstance(error, UnknownNameError):
        return RequestError(f"There is no {error.what} '{error.name}'.", 404, error.nearest)
    return RequestError(str(error))


def _explain(data: Mapping[str, Any]) -> Explain:
    wanted = context(data).get("explain")
    if wanted is None:
        return Explain.NOTHING
    try:
        return Explain(wanted or "-")
    except ValueError:
        raise RequestError("'context.explain' must be user, admin or all.") from None


def _semantic(data: Mapping[str, Any]) -> Semantic:
    options = data.get("options")
    if options is None:
        return Semantic.EXECUTE_ALL
    if not isinstance(options, dict):
        raise RequestError("'options' must be an object.")
    try:
        return Semantic(options.get("evaluations_semantic", Semantic.EXECUTE_ALL))
    except ValueError:
        raise RequestError(f"'options.evaluations_semantic' must be one of {', '.join(Semantic)}.") from None
