"""Plan what a directory says: read it, find who is in what, make one plan of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ask_above.change.draft import Draft, EditError
from ask_above.change.syncing import (
    GroupGives,
    LeftOut,
    LetGo,
    OutsideGroup,
    Outsider,
    Sync,
    absent,
    groups_of,
    left_out,
    taken_over,
)
from ask_above.charter.names import few, how_many
from ask_above.files.directories import DirectoryEntry, DirectoryMapping, DirectoryRead, folded_dn
from ask_above.store.entries import Claims
from ask_above.workspace.plans import Plan, plan
from ask_above.workspace.storage import Storage


class SyncRead(NamedTuple):
    """What was understood of a directory: the people, how many groups it has, and what one should know."""

    people: list[Outsider]
    groups: int
    notes: list[str]


def understood(mapping: DirectoryMapping, read: DirectoryRead) -> SyncRead:
    """Return the people of a directory with all groups that they are in."""
    what, notes = mapping.people, []
    by_uid = {entry.first("uid").casefold(): folded_dn(entry.dn) for entry in read.people if entry.first("uid")}
    above: dict[str, set[str]] = {}
    for entry in (*read.people, *read.groups):
        for dn in entry.attributes.get("memberof", ()):
            above.setdefault(folded_dn(dn), set()).add(folded_dn(entry.dn))
    groups = [_group(entry, mapping.groups["name"], by_uid, above) for entry in read.groups]
    known = {group.name for group in groups}
    inside = groups_of(groups)
    people, inactive = [], 0
    for entry in read.people:
        if entry.first("active").casefold() == "false":
            inactive += 1
            continue
        number = entry.first(what["number"])
        if not number:
            notes.append(f"{entry.dn} has no {what['number']}, and is left out.")
            continue
        mine = inside.get(folded_dn(entry.dn), frozenset())
        key = entry.first(what["key"])
        name, email, phone = (entry.first(what[each]) for each in ("name", "email", "phone"))
        people.append(Outsider(number, key, name, email, mine, phone))
    if inactive:
        are = "is" if inactive == 1 else "are"
        notes.append(f"{how_many(inactive, 'person', 'people')} who {are} not active there: left out.")
    notes += [
        f"The directory has no group '{name}', which the mapping names."
        for name in dict.fromkeys(given.group for given in mapping.gives)
        if name not in known
    ]
    if read.elsewhere:
        count = len(read.elsewhere)
        notes.append(
            f"{how_many(count, 'reference')} to other servers were not followed: "
            f"{', '.join(read.elsewhere[:3])}. In the mapping, referrals: ignore silences this."
        )
    return SyncRead(people, len(groups), notes)


def _group(entry: DirectoryEntry, name: str, by_uid: Mapping[str, str], above: Mapping[str, set[str]]) -> OutsideGroup:
    """Return a group with all that it says is in it, and all that say so themselves (``above``)."""
    dn = folded_dn(entry.dn)
    members = {folded_dn(each) for field in ("member", "uniquemember") for each in entry.attributes.get(field, ())}
    members |= {by_uid[uid.casefold()] for uid in entry.attributes.get("memberuid", ()) if uid.casefold() in by_uid}
    return OutsideGroup(dn, entry.first(name), frozenset(members | above.get(dn, set())))


def plan_sync(
    home: Storage, mapping: DirectoryMapping, found: SyncRead, *, by: str | None, why: str, link: bool = False
) -> Plan:
    """Plan what a directory says; raises :class:`EditError` where too many are gone.

    With ``link`` those are taken over who are likely somebody here; else they are left out, which ``notes`` tell. Run
    by a member who is not the owner it is an import: nothing of it is held by the directory.
    """
    gives = [GroupGives(given.group, given.rank, given.place, given.into) for given in mapping.gives]
    sync = Sync(mapping.name, found.people, gives, mapping.absent == "retire", link)
    snapshot = home.read()
    draft = Draft(dict, snapshot.charter, snapshot.register, 0, "")
    gone, known = absent(sync, draft), taken_over(sync, draft)
    if gone:
        share = (
            f"{len(gone):,} of {known:,} members who came from {mapping.name} ({len(gone) / known:.0%}) are not in it"
        )
        if len(gone) > mapping.most_absent * known:
            raise EditError(
                f"{share} any more, more than most-absent ({mapping.most_absent:.0%}). Nothing was done. If this is "
                "meant, raise most-absent in the mapping."
            )
        if mapping.absent == "retire":
            found.notes.append(f"{share} any more, and are retired.")
    if gone and mapping.absent == "tell":
        names = few((member.called for member in gone), 8)
        found.notes.append(f"{len(gone):,} who came from {mapping.name} are not in it any more: {names}.")
    made = plan(home, [sync], by=by, why=why)
    found.notes.extend(_said(why, mapping.name, link=link) for why in left_out(sync, draft))
    made.source = mapping.name if made.by in ("", snapshot.charter.owner) else ""
    return made


def _said(why: LeftOut, source: str, *, link: bool) -> str:
    """Say whom a sync leaves out, and what to do where it is somebody here."""
    called = f"{why.person.name or why.person.key} (number {why.person.number})"
    if not why.likely:
        whose = f"{why.has_address[0]}, who is known by another number"
        return f"{called} has the address of {whose}, and is left out. Correct the address of one of them."
    how = f"ask-above member set {why.likely[0]} external_id={source}:{why.person.number}" if link else "--link"
    return f"{called} is likely {' or '.join(why.likely)}, and is left out. If so: {how}"


def keep_claims(home: Storage, mapping: DirectoryMapping) -> None:
    """Note what the mapping claims of those who come from its directory: commands are refused that from now on."""
    fields = tuple(name for name in ("name", "email") if mapping.people[name])
    groups = tuple(sorted({given.into for given in mapping.gives if given.into}))
    home.claim(Claims(mapping.name, fields, groups))


def plan_letting_go(home: Storage, source: str, *, by: str | None, why: str) -> Plan:
    """Plan that what a directory holds is kept by hand; the owner's, or the maintainer's (rule 9.15)."""
    made = plan(home, [LetGo(source)], by=by, why=why)
    made.source = source
    return made


def let_go(home: Storage, source: str) -> None:
    """Note that a directory claims nothing any more."""
    home.claim(Claims(source, (), ()))
