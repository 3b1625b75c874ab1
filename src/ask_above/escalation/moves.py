"""The moves that a climb is made of, and lists of them."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from ask_above.charter.names import SITE

NEW_RANK = "new-rank"
"""The key of a rank that would be made."""

Moves = tuple["Move", ...]


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
    DETOUR = "detour"


TAKING = (MoveKind.JOIN, MoveKind.GIVE, MoveKind.RECEIVE)
"""The moves by which one comes to have a rank."""


class Move(NamedTuple):
    """One thing to do.

    ``kind`` is join (an open rank), give (take a rank at a place), receive (one from an accomplice), leave (a rank),
    open (let a rank be open), make (a rank), grant (``names`` to a rank), allow (a rank ``names`` at a place),
    except (be allowed ``names`` at a place by an accomplice), enter (a group, named as the rank), group (be
    put into one by an accomplice) or detour (from the first of ``names`` to the others).
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
