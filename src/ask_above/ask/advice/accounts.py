"""Advice from what stands beside charter and register: sign-ins, and whom the journal names as heir of what."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from ask_above.ask.advice.piece import Piece, Sight
from ask_above.ask.shared import DAYS, NETWORKS, shared_accounts
from ask_above.charter.names import few
from ask_above.people.signins import SignIn

_FEW = 4


class Beside(NamedTuple):
    """The sign-ins, and the names of those whose texts were handed to a member, by the member's key."""

    sign_ins: Sequence[SignIn] = ()
    heirs: Mapping[str, Sequence[str]] = {}


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


def heirs_gone(sight: Sight, beside: Beside) -> Iterator[Piece]:
    """Find members who have left, and to whom was handed what others wrote."""
    for key, writers in beside.heirs.items():
        member = sight.register.members.get(key)
        if member is not None and member.is_retired:
            what = f"{member.called} has left, and had what {few(writers, _FEW)} wrote"
            yield Piece("heir-gone", member.where, what, "hand it to another member on the site", (f"@{key}",))


LOOKS = (shared, heirs_gone)
