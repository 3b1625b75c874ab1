"""The moves of a climb in words."""

from __future__ import annotations

from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, listed
from ask_above.decide.words import in_place
from ask_above.escalation.moves import NEW_RANK, Move, MoveKind, Moves


def said(charter: Charter, move: Move) -> str:
    """Say a move in words, with nobody named before it; a detour without a place is meant where it leads."""
    place = charter.places.get(move.place)
    where = "" if not move.place else in_place(place.title if place else move.place, site=move.place == SITE)
    known = charter.ranks.get(move.rank)
    title = "a rank of their own" if move.rank == NEW_RANK else known.title if known else move.rank
    names = listed(move.names)
    if move.kind == MoveKind.DETOUR:
        about = charter.catalogue.capabilities[move.names[0]].about
        at = f" {where}" if where else ""
        return f"uses {move.names[0]}{at} ({about[:1].lower()}{about[1:]}), which leads to {listed(move.names[1:])}"
    if move.kind in (MoveKind.GROUP, MoveKind.ENTER):
        title = charter.groups[move.rank].title or move.rank
        return f"is put into {title} by the other" if move.kind == MoveKind.GROUP else f"puts themselves into {title}"
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
    }[move.kind]


def sentence(charter: Charter, moves: Moves) -> str:
    """Say moves in one sentence.

    >>> from ask_above import Community
    >>> sentence(Community.demo().charter, (Move(MoveKind.JOIN, "volunteer"), Move(MoveKind.GIVE, "host", "commons")))
    'joins Volunteer, which is open; gives themselves Board host in Common room'
    """
    return "; ".join(said(charter, move) for move in moves)
