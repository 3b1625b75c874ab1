"""A community's questions, put to a service: code moves from one to the other by one line."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, date, datetime
from types import TracebackType
from typing import TYPE_CHECKING, Any, Final, Self

import httpx

from ask_above.charter.names import SITE, rank_named
from ask_above.decide.answer import Account, Answer, Step
from ask_above.decide.decider import VISITOR
from ask_above.errors import AskAboveError, MomentError, QuestionError, UnknownNameError

if TYPE_CHECKING:
    import pandas as pd

_NOT_FOUND: Final = 404
_MOST_AT_ONCE: Final = 1000


class ServiceError(AskAboveError, RuntimeError):
    """The service did not answer: it cannot be reached, is busy, or lets nobody in with this token."""

    def __init__(self, message: str, status: int = 0) -> None:
        super().__init__(message)
        self.status = status


class Client:
    """Puts questions to a service as :class:`ask_above.Community` takes them.

    ``url`` is where the service is, ``token`` a bearer token. ``transport`` stands for the network in tests.
    Answers say yes or no at once; their reasons are fetched when they are first read. ``state`` is the number of the
    state that the last answer came from: with :meth:`changes` a site keeps answers for a while and drops those that a
    change touches; what begins or ends by its dates is no change. Raises :class:`ServiceError`, and for names and
    questions what a community raises.

    >>> from ask_above.serve import Client
    >>> client = Client("http://127.0.0.1:8423")  # doctest: +SKIP
    >>> client.may("dara", "post.write", at="notices").reason  # doctest: +SKIP
    'In Notices, Member is denied post.write (charter.yaml line ...).'
    """

    def __init__(
        self, url: str, *, token: str | None = None, timeout: float = 10.0, transport: httpx.BaseTransport | None = None
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._http = httpx.Client(base_url=url, headers=headers, timeout=timeout, transport=transport)
        self.state = ""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    # -- questions

    def may(
        self,
        who: str,
        capability: str,
        *,
        at: str = SITE,
        author: str | None = None,
        when: datetime | date | str | None = None,
    ) -> Answer:
        """Answer whether someone may use a capability at a place."""
        said = {} if author is None else {"author": author}
        return self._answer(_question(who, capability, "place", at, said, when=when))

    def may_moderate(
        self, actor: str, target: str, *, at: str = SITE, using: str | None = None, when: Any = None
    ) -> Answer:
        """Answer whether ``actor`` may moderate ``target``."""
        return self._answer(_question(actor, "moderate", *_target(target), {"at": at}, using=using, when=when))

    def may_assign(self, actor: str, rank: str, *, to: str | None = None, at: str = SITE, when: Any = None) -> Answer:
        """Answer whether ``actor`` may give ``rank``."""
        said = {"at": at} if to is None else {"at": at, "to": to}
        return self._answer(_question(actor, "assign", "rank", rank, said, when=when))

    def may_unassign(self, actor: str, rank: str, *, of: str, at: str = SITE, when: Any = None) -> Answer:
        """Answer whether ``actor`` may take ``rank`` from a member."""
        return self._answer(_question(actor, "unassign", "rank", rank, {"at": at, "of": of}, when=when))

    def may_manage(self, actor: str, rank: str, *, when: Any = None) -> Answer:
        """Answer whether ``actor`` may change ``rank``."""
        return self._answer(_question(actor, "manage", "rank", rank, {}, when=when))

    def may_call(self, actor: str, rank: str, *, at: str = SITE, when: Any = None) -> Answer:
        """Answer whether ``actor`` may call ``rank``."""
        return self._answer(_question(actor, "call", "rank", rank, {"at": at}, when=when))

    def may_many(self, frame: pd.DataFrame) -> pd.Series[bool]:
        """Answer many questions at once, as :meth:`ask_above.Community.may_many` does."""
        import pandas as pd

        from ask_above.bulk.many import check_columns

        check_columns(frame)
        rows = frame.to_dict("records")
        all_answers: list[bool] = []
        for start in range(0, len(rows), _MOST_AT_ONCE):
            items = [
                _question(
                    str(row["member"]),
                    str(row["capability"]),
                    "place",
                    str(row["place"]),
                    {"author": row["author"]} if isinstance(row.get("author"), str) else {},
                    when=None if pd.isna(row.get("when")) else row["when"],
                )
                for row in rows[start : start + _MOST_AT_ONCE]
            ]
            answers = self._ask("/access/v1/evaluations", {"evaluations": items})["evaluations"]
            for item, answer in zip(items, answers, strict=True):
                all_answers.append(_decision(item, answer))
        return pd.Series(all_answers, index=frame.index, name="may", dtype=bool)

    def who(
        self, what: str, target: str | None = None, *, at: str = SITE, when: Any = None, **more: Any
    ) -> pd.DataFrame:
        """Return the members who may; a column ``member`` with keys, in the order of the keys."""
        import pandas as pd

        kind, key, said = ("place", at, {}) if target is None else (*_target_of(what, target), {"at": at})
        said |= {name: value for name, value in more.items() if name in ("to", "of") and value is not None}
        data = _question(VISITOR, what, kind, key, said, using=more.get("using"), when=when)
        data["subject"] = {"type": "member"}
        found = [page["id"] for page in self._pages("/access/v1/search/subject", data)]
        return pd.DataFrame({"member": pd.Series(found, dtype=object)})

    def where(self, who: str, capability: str, *, author: str | None = None, when: Any = None) -> list[str]:
        """Return the keys of all places where someone may use a capability, in the order of the keys."""
        data = _question(who, capability, "place", SITE, {} if author is None else {"author": author}, when=when)
        del data["resource"]["id"]
        return [page["id"] for page in self._pages("/access/v1/search/resource", data)]

    def for_the_user(self, who: str, capability: str, *, at: str = SITE, author: str | None = None) -> str:
        """Return one sentence about an answer that may be shown to whoever asked: it tells nothing they may not see."""
        data = _question(who, capability, "place", at, {} if author is None else {"author": author})
        answer = self._ask("/access/v1/evaluation", {**data, "context": {"explain": "user"}})
        _decision(data, answer)
        return str(answer["context"]["reason_user"]["en"])

    def changes(self, since: str) -> dict[str, Any]:
        """Return what has changed since a state: ``changes``, each with the members it touches or ``charter``."""
        return self._read(self._send("GET", "/changes", params={"since": since}))

    # -- the way there

    def _answer(self, data: dict[str, Any]) -> Answer:
        decided = _decision(data, self._ask("/access/v1/evaluation", data))

        def tell() -> Account:
            more = {**data, "context": {**data.get("context", {}), "explain": "all"}}
            return _account(self._ask("/access/v1/evaluation", more)["context"]["account"])

        return Answer(decided, tell)

    def _pages(self, path: str, data: dict[str, Any]) -> Iterator[dict[str, Any]]:
        token = ""
        while True:
            found = self._ask(path, {**data, "page": {"limit": _MOST_AT_ONCE, "token": token}})
            yield from found["results"]
            token = found["page"]["next_token"]
            if not token:
                return

    def _ask(self, path: str, data: Mapping[str, Any]) -> dict[str, Any]:
        return self._read(self._send("POST", path, json=data))

    def _send(self, method: str, path: str, **more: Any) -> httpx.Response:
        try:
            return self._http.request(method, path, **more)
        except httpx.HTTPError as error:
            raise ServiceError(f"The service at {self._http.base_url} cannot be asked: {error}.") from error

    def _read(self, response: httpx.Response) -> dict[str, Any]:
        self.state = response.headers.get("x-ask-above-state", self.state)
        if response.status_code == httpx.codes.OK:
            found: dict[str, Any] = response.json()
            return found
        try:
            message = response.json()["error"]["message"]
        except (ValueError, KeyError, TypeError):
            message = response.reason_phrase
        if response.status_code == httpx.codes.BAD_REQUEST:
            raise QuestionError(message)
        raise ServiceError(f"{response.status_code}: {message}", response.status_code)


def _question(
    who: str, name: str, kind: str, key: str, said: Mapping[str, str], *, using: str | None = None, when: Any = None
) -> dict[str, Any]:
    rank = rank_named(who)
    subject = (
        {"type": "visitor", "id": VISITOR}
        if who == VISITOR
        else {"type": "rank", "id": rank}
        if rank is not None
        else {"type": "member", "id": who}
    )
    data: dict[str, Any] = {
        "subject": subject,
        "action": {"name": name, "properties": {"using": using}} if using else {"name": name},
        "resource": {"type": kind, "id": key, "properties": dict(said)} if said else {"type": kind, "id": key},
    }
    if when is not None:
        data["context"] = {"time": _moment(when)}
    return data


def _moment(when: Any) -> str:
    if isinstance(when, str):
        when = datetime.fromisoformat(when)
    if not isinstance(when, datetime) or when.tzinfo is None:
        raise MomentError(
            "A service is asked about a moment with its time zone, such as datetime(2026, 5, 1, tzinfo=UTC)."
        )
    return when.astimezone(UTC).isoformat()


def _target(target: str) -> tuple[str, str]:
    rank = rank_named(target)
    return ("member", target) if rank is None else ("rank", rank)


def _target_of(what: str, target: str) -> tuple[str, str]:
    return _target(target) if what == "moderate" else ("rank", target)


def _decision(asked: Mapping[str, Any], answer: Mapping[str, Any]) -> bool:
    wrong = answer.get("context", {}).get("error")
    if wrong is None:
        return bool(answer["decision"])
    if wrong["status"] == _NOT_FOUND:
        raise UnknownNameError("name", _named(asked), tuple(wrong.get("nearest", ())), wrong["message"])
    raise QuestionError(wrong["message"])


def _named(asked: Mapping[str, Any]) -> str:
    return f"{asked['subject']['id']}, {asked['action']['name']}, {asked['resource'].get('id', '')}"


class _Told(Step):
    """A step whose words the service has said already."""

    @property
    def text(self) -> str:
        """The step in words."""
        return str(self.words["text"])


def _account(data: Mapping[str, Any]) -> Account:
    steps: Sequence[Step] = [
        _Told(
            each["rule"],
            each["code"],
            {"text": each["text"]},
            frozenset(each["gives"]),
            frozenset(each["takes"]),
            each["holds"],
        )
        for each in data["steps"]
    ]
    return Account(data["question"], data["reason"], tuple(steps), tuple(data["notes"]))
