"""What stands beside charter and register: accounts that several may use, heirs of what was written who are gone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from ask_above.ask.advice.piece import Piece, Sight
from ask_above.charter.catalogue import RISKS
from ask_above.charter.moments import Instant
from ask_above.charter.names import few
from ask_above.charter.where import Where
from ask_above.decide.decider import Decider
from ask_above.errors import Fault
from ask_above.people.register import Member
from ask_above.people.signins import SignIn

NETWORKS, DAYS = 5, 7
"""From how many networks within how many days an account looks shared."""

_DAY = 86_400_000_000
_FEW = 4


class SharedAccount(NamedTuple):
    """An account used from ``networks`` networks between two instants; ``can`` are the capabilities by risk.

    ``can`` holds all of medium and high risk that can be used anywhere, highest risk first.
    """

    member: Member
    networks: tuple[str, ...]
    since: Instant
    until: Instant
    can: tuple[tuple[str, str], ...]


def shared_accounts(
    decider: Decider, signins: Iterable[SignIn], at: Instant, *, networks: int = NETWORKS, days: int = DAYS
) -> list[SharedAccount]:
    """Return the accounts that were used from so many networks within so many days, highest risk first.

    The window of each with most networks is told, the latest of equal ones.
    """
    by_member: dict[str, list[SignIn]] = {}
    for signin in signins:
        by_member.setdefault(signin.member, []).append(signin)
    accounts = []
    for key, given in by_member.items():
        best = _busiest(sorted(given, key=lambda sign_in: sign_in.at), days * _DAY)
        if len(best[2]) >= networks and key in decider.people.register.members:
            member = decider.people.register.members[key]
            accounts.append(SharedAccount(member, tuple(best[2]), best[0], best[1], _can(decider, key, at)))
    return sorted(accounts, key=lambda account: (_risk(account), -len(account.networks), account.member.key))


def _busiest(given: list[SignIn], window: int) -> tuple[Instant, Instant, list[str]]:
    """Return the stretch of time, no longer than the window, with sign-ins from most networks."""
    best: tuple[Instant, Instant, list[str]] = (0, 0, [])
    first = 0
    for last, sign_in in enumerate(given):
        while sign_in.at - given[first].at >= window:
            first += 1
        seen = list(dict.fromkeys(one.network for one in given[first : last + 1]))
        if len(seen) >= len(best[2]):
            best = (given[first].at, sign_in.at, seen)
    return best


def _can(decider: Decider, key: str, at: Instant) -> tuple[tuple[str, str], ...]:
    asked, compiled = decider.people.ask(key, at), decider.compiled
    mask = 0
    for place in range(len(compiled.places)):
        mask |= decider.usable(asked, place)
    known = [(compiled.catalogue.capabilities[name].risk, name) for name in compiled.catalogue.names(mask)]
    return tuple(each for risk in reversed(RISKS[1:]) for each in known if each[0] == risk)


def _risk(each: SharedAccount) -> tuple[int, int]:
    """Order by the highest risk, then by how many capabilities there are of it."""
    if not each.can:
        return 0, 0
    top = each.can[0][0]
    return -RISKS.index(top), -sum(risk == top for risk, _ in each.can)


class Beside(NamedTuple):
    """The sign-ins, or what is wrong with them; the names of those whose texts were handed on, by the heir's key."""

    sign_ins: Sequence[SignIn] = ()
    heirs: Mapping[str, Sequence[str]] = {}
    faults: Sequence[Fault] = ()


def shared(sight: Sight, beside: Beside) -> Iterator[Piece]:
    """Find accounts that are used from many places (rule 5)."""
    for account in shared_accounts(sight.decider, beside.sign_ins, sight.at) if beside.sign_ins else ():
        member = account.member
        many = len(account.networks)
        what = f"{member.called}'s account was used from {many} networks within {DAYS} days"
        if account.can:
            what += f"; it may use {few((key for _, key in account.can), _FEW)}"
        mend = "ask the member; lock the account until it is clear"
        commands = ("ask-above roster --sign-ins", f"ask-above member lock {member.key}")
        if many >= NETWORKS and member.is_active:
            yield Piece("account-shared", member.where, what, mend, (f"@{member.key}",), commands)


def unread(_: Sight, beside: Beside) -> Iterator[Piece]:
    """Find that there are sign-ins, and that they cannot be read."""
    for fault in beside.faults[:1]:
        where, commands = Where(fault.file, fault.line, fault.column), ("ask-above roster --sign-ins",)
        what = f"no sign-in was looked at: {fault.message}"
        yield Piece("sign-ins-unread", where, what, "correct the file", (), commands)


def heirs_gone(sight: Sight, beside: Beside) -> Iterator[Piece]:
    """Find members who have left, and to whom was handed what others wrote."""
    for key, writers in beside.heirs.items():
        member = sight.register.members.get(key)
        if member is not None and member.is_retired:
            what = f"{member.called} has left, and had what {few(writers, _FEW)} wrote"
            yield Piece("heir-gone", member.where, what, "hand it to another member on the site", (f"@{key}",))


LOOKS = (shared, unread, heirs_gone)
