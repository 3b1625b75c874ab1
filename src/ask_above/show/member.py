"""All that is kept about a member, for whoever asks for it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ask_above.ask.choosing import sees
from ask_above.ask.perks import beyond_default, brought
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.community import Community
from ask_above.decide.looks import perks
from ask_above.decide.words import day, minute, span
from ask_above.errors import QuestionError
from ask_above.people.reading import GUARDED, MEMBER_COLUMNS
from ask_above.show.screen import Screen
from ask_above.store.entries import Entry
from ask_above.workspace.journal import concerns


def about(community: Community, key: str, viewer: str | None, at: Instant) -> dict[str, Any]:
    """Return a member's record, and the ranks they were given; what the viewer may not see is left out."""
    member = community.member(key)
    key = member.key
    everyone, own = sees(community.decider, at, viewer)
    shown = everyone or (own and viewer == key)
    record = {
        column: list(member.groups) if column == "groups" else getattr(member, column)
        for column in MEMBER_COLUMNS
        if shown or column not in GUARDED
    }
    given = [
        {"rank": e.rank, "place": e.place, "from": e.period.said_from, "until": e.period.said_until, "by": e.by}
        | {"why": e.why, "source": e.source}
        for e in community.register.of(key)
    ]
    known = community.charter.perks
    mine = beyond_default(known, perks(community.decider.compiled, community.decider.people.ask(key, at)))
    return {"member": record, "ranks": given, "perks": mine, "hidden": not shown}


def everything(
    community: Community, key: str, viewer: str | None, at: Instant, entries: Sequence[Entry]
) -> dict[str, Any]:
    """Return all that is kept: the record, every note and assignment there was, the journal, letters that wait.

    Raises :class:`QuestionError` where the viewer may not see how the member can be reached.
    """
    key = community.member(key).key
    record = about(community, key, viewer, at)
    if record.pop("hidden"):
        raise QuestionError(f"{viewer} may not see the record of {key}: {_rule(community)}.")
    kept = community.storage.remembered(key)
    return {
        **record,
        "notes": [dict(zip(("at", "by", "text"), row, strict=True)) for row in kept.notes],
        "given": [
            dict(zip(("rank", "place", "from", "until", "by", "why", "ended"), row, strict=True)) for row in kept.given
        ],
        "journal": [
            {"number": e.number, "at": e.at, "who": e.who, "what": e.what, "why": e.why}
            for e in entries
            if concerns(e, key)
        ],
        "letters": [*kept.letters],
    }


def _rule(community: Community) -> str:
    pair = community.charter.rules.contacts
    return f"it needs {pair}" if pair else "without rules.contacts only the owner may"


def show_member(screen: Screen, kept: dict[str, Any], charter: Charter) -> None:
    """Show what is kept about a member; times are in the charter's time zone."""
    record = dict(kept["member"])
    screen.line(record.get("name") or record["key"], "head")
    screen.line()
    if before := record.pop("was"):  # what a lock or a retirement took the place of
        record["status"] += f" (before: {before})"
    for name, value in record.items():
        text = ", ".join(value) if isinstance(value, list) else day(value) if name == "joined" and value else value
        if text and not (name == "name" and text == record["key"]):
            screen.paragraph(text, first=f"  {name:14}", rest=" " * 16)
    if kept.get("last_sign_in"):
        screen.line(f"  {'last sign-in':14}{day(kept['last_sign_in'])}")
    if kept.get("hidden"):
        screen.line("  Names, addresses and notes are hidden from this member.", "dim")
    _rows(screen, "Ranks", _when(kept["ranks"]), ("rank", "place", "when", "by", "why"))
    if kept["perks"]:
        screen.head("Perks")
        for sentence in brought(charter.perks, kept["perks"]):
            screen.paragraph(sentence, first="  ", rest="    ")
    if "journal" in kept:
        _rows(screen, "All assignments, past ones too", _when(kept["given"]), ("rank", "place", "when", "by", "ended"))
        kept = {name: [_here(row, charter) for row in kept[name]] for name in ("notes", "journal")} | {
            "letters": kept["letters"]
        }
        _rows(screen, "Notes", kept["notes"], ("at", "by", "text"))
        _rows(screen, f"Journal, times in {charter.rules.timezone}", kept["journal"], ("number", "at", "who", "what"))
        if kept["letters"]:
            _rows(screen, "In the outbox", [{"letter": each} for each in kept["letters"]], ("letter",))


def _when(rows: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{**row, "when": span(row["from"], row["until"]).strip()} for row in rows]


def _here(row: dict[str, Any], charter: Charter) -> dict[str, Any]:
    return {**row, "at": minute(row["at"], charter.zone)}


def _rows(screen: Screen, title: str, rows: Sequence[dict[str, Any]], columns: Sequence[str]) -> None:
    screen.line()
    screen.line(title if rows else f"{title}: none", "head" if rows else "dim")
    if rows:
        used = [column for column in columns if any(row[column] for row in rows)]
        screen.table([each.capitalize() for each in used], [[str(row[each] or "") for each in used] for row in rows])
