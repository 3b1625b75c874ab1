"""The moves that a climb is made of, lists of them, and how each is said."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, listed
from ask_above.decide.words import in_place

NEW_RANK = "new-rank"
"""The key of a rank that would be made."""
Moves = tuple["Move", ...]


def said(charter: Charter, move: Move) -> str:
    """Say a move in words, with nobody named before it; a detour without a place is meant where it leads."""
    place = charter.places.get(move.place)
    where = "" if not move.place else in_place(place.called if place else move.place, site=move.place == SITE)
    known = charter.ranks.get(move.rank)
    title = "a rank of their own" if move.rank == NEW_RANK else known.called if known else move.rank
    names = listed(move.names)
    if move.kind == MoveKind.DETOUR:
        about = charter.catalogue.capabilities[move.names[0]].about
        at = f" {where}" if where else ""
        return f"uses {move.names[0]}{at} ({about[:1].lower()}{about[1:]}), which leads to {listed(move.names[1:])}"
    if move.kind in (MoveKind.GROUP, MoveKind.ENTER):
        title = charter.groups[move.rank].called
        return f"is put into {title} by the other" if move.kind == MoveKind.GROUP else f"puts themselves into {title}"
    if move.kind in (MoveKind.GRANT, MoveKind.ALLOW) and known and known.automatic:
        return f"lets the other {move.kind} {names} to {title}{f' {where}' if move.kind == MoveKind.ALLOW else ''}"
    return {
        "join": f"joins {title}" + (", which is open" if known and known.open else ""),
        "give": f"gives themselves {title} {where}",
        "receive": f"is given {title} {where} by the other",
        "leave": f"gives up {title}",
        "open": f"lets {title} be open to all",
        "make": "makes a rank of their own, open to all",
        "grant": f"grants {names} to {title}",
        "allow": f"allows {title} {names} {where}",
        "except": f"is allowed {names} {where} by the other",
        "bot": "is made a bot by the other",
    }[move.kind]


def sentence(charter: Charter, moves: Moves) -> str:
    """Say moves in one sentence.

    >>> from ask_above import Community
    >>> sentence(Community.demo().charter, (Move(MoveKind.JOIN, "volunteer"), Move(MoveKind.GIVE, "host", "commons")))
    'joins Volunteer, which is open; gives themselves Board host in Common room'
    """
    return "; ".join(said(charter, move) for move in moves)


class MoveKind(StrEnum):
    """What one does on the way up, or what an accomplice does for one."""

    JOIN = "join"
    GIVE = "give"
    RECEIVE = "receive"
    LEAVE = "leave"
    OPEN = "open"
    MAKE = "make"
    GRANT = "grant"
    ALLOW = "allow"
    EXCEPT = "except"
    ENTER = "enter"
    GROUP = "group"
    BOT = "bot"
    DETOUR = "detour"


TAKING = (MoveKind.JOIN, MoveKind.GIVE, MoveKind.RECEIVE)
"""The moves by which one comes to have a rank."""


class Move(NamedTuple):
    """One thing to do.

    ``kind`` is join (an open rank), give (take a rank at a place), receive (one from an accomplice), leave (a rank),
    open (let a rank be open), make (a rank), grant (``names`` to a rank), allow (a rank ``names`` at a place),
    except (be allowed ``names`` at a place by an accomplice), enter (a group, named as the rank), group (be
    put into one by an accomplice), bot (be made one by an accomplice) or detour (from the first of ``names`` to the
    others).
    """

    kind: MoveKind
    rank: str = ""
    place: str = SITE
    names: tuple[str, ...] = ()


def then(moves: Moves, last: Move) -> Moves:
    """Put a move behind others, where it is not among them."""
    return moves if last in moves else (*moves, last)


def before_last(moves: Moves, edit: Move) -> Moves:
    """Put an edit before the rank that it fills is taken: whoever holds a rank gains by no edit of it."""
    at = next((n for n, m in enumerate(moves) if m.rank == edit.rank and m.kind in TAKING), None)
    return (*moves, edit) if at is None else (*moves[:at], edit, *moves[at:])


def together(lists: Iterable[Moves]) -> Moves:
    """Return all moves of several lists, each once, in their order."""
    return tuple(dict.fromkeys(move for moves in lists for move in moves))
