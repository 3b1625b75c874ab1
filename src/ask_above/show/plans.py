"""A plan on the screen, what was understood of a list, and the journal."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from ask_above.ask.impact.whole import Shift
from ask_above.change.draft import RowChange
from ask_above.change.parts import Kind
from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, few, listed, upper
from ask_above.decide.words import in_places, minute
from ask_above.files.people_lists import Understood
from ask_above.show.data import Table
from ask_above.show.impact import show_impact
from ask_above.show.screen import Screen, at_most
from ask_above.workspace.journal import given_rank, whose
from ask_above.workspace.plans import Plan
from ask_above.workspace.storage import were_edited

if TYPE_CHECKING:
    from ask_above.store.entries import Entry
    from ask_above.workspace.undoing import Lines


_MOST_IN_TABLE = 20
_FEW = 6
_MOST_TOLD = 5
_MOST_COMMANDS = 2
_FOR_THE_NEW_OWNER = (
    ("ask-above check", "expectations that are not met, and advice"),
    ("ask-above cover", "capabilities that only one member may use"),
    ("ask-above roster", "who waits, and what ends soon"),
    ("ask-above journal", "the latest changes, by whom and why"),
)


def show_plan(screen: Screen, plan: Plan, *, force: bool = False) -> None:
    """Show what a change does, to whom, and why it may not be made."""
    screen.paragraph(f"{upper(plan.what)}.", style="head")
    screen.paragraph(f"  {_maker(plan)}", rest="  ", style="dim")
    if plan.snapshot.edited_files:
        screen.paragraph(f"  {were_edited(plan.snapshot)}; the journal records that first.", rest="  ", style="warn")
    _table(screen, plan)
    screen.line()
    # that everybody may use a new board as they use its section is no news
    new = _alone_in_new_places(plan)
    if new and not screen.full:
        titles = [plan.after.decider.compiled.named[key].called for key in new]
        screen.paragraph(f"{listed(titles)}: as the place above for everyone; nothing else changes.", style="head")
    elif plan.effect:
        show_impact(screen, plan.effect)
    elif not plan.perks:
        screen.line("Nobody gains or loses anything.")
    screen.line()
    for turned in plan.perks:
        names = few(turned.members, at_most(_FEW), called=lambda key: plan.after.register.members[key].called)
        screen.paragraph(f"{names}: {turned}.", rest="  ")
    for sentence in screen.some(plan.vain, _MOST_TOLD):
        screen.paragraph(f"! {sentence}", rest="  ", style="warn")
    if plan.vain:
        screen.line()
    _gaps(screen, plan)
    _brought(screen, plan)
    _handed_over(screen, plan)
    if plan.refusals:
        actor = f"{plan.before.member(plan.by).called} may not do this" if plan.by else "This is not possible"
        screen.paragraph(f"✗ {actor}:", style="no")
        for refusal in plan.refusals:
            screen.paragraph(str(refusal), first="    ", rest="    ")
        if plan.could:
            screen.paragraph(f"{listed(plan.could, 'or')} may do this.", first="  → ", rest="    ")
        return
    if plan.passable:
        _broken(screen, plan, force=force)
    elif not new and any(not _is_anyway(plan, shift) for shift in plan.effect.risky):
        screen.line("! Someone gains a high-risk capability.", "warn")
    if plan.lasting:
        actor = plan.before.member(plan.by).called
        screen.paragraph(f"! {actor} may not undo this; {listed(plan.lasting, 'or')} may.", rest="  ", style="warn")


def _brought(screen: Screen, plan: Plan) -> None:
    """Show the advice that comes with it, with what mends it."""
    for piece in screen.some(plan.brought, _MOST_TOLD, "  ", ": ask-above check --advice"):
        screen.paragraph(f"▲ {upper(piece.what)}. [{piece.code}]", rest="  ", style="warn")
        for command in piece.commands[: at_most(_MOST_COMMANDS)]:
            screen.paragraph(f"→ {command}", first="  ", rest="    ", style="dim")
    if plan.brought:
        screen.line()


def _gaps(screen: Screen, plan: Plan) -> None:
    """Say what nobody may use after it, and what only one member may."""
    compiled, members = plan.after.decider.compiled, plan.after.register.members
    places: dict[tuple[str | None, str], list[str]] = {}
    for gap in plan.gaps:
        places.setdefault((gap.only, gap.capability), []).append(gap.place)
    alike: dict[tuple[str | None, tuple[str, ...]], list[str]] = {}
    for (only, capability), keys in places.items():
        alike.setdefault((only, tuple(keys)), []).append(capability)
    for (only, where), capabilities in alike.items():
        who = "nobody" if only is None else f"only {members[only].called}"
        what = few(capabilities, at_most(_FEW), "or" if only is None else "and")
        there = in_places(compiled.named, where, at_most(_FEW))
        style = "no" if only is None else "warn"
        screen.paragraph(f"! After this, {who} may use {what} {there}.", rest="  ", style=style)
    if places:
        screen.line()


def _handed_over(screen: Screen, plan: Plan) -> None:
    """Say what the one who was the owner keeps, and what the one who becomes it should look at."""
    was, will_be = plan.before.charter.owner, plan.after.charter.owner
    if (
        not was
        or not will_be
        or was == will_be
        or was not in plan.after.register.members
        or will_be not in plan.after.register.members
    ):
        return
    called, given = plan.after.member(was).called, plan.after.register.of(was)
    held = {(each.rank, each.place): each for each in given if each.period.end is None or each.period.end > plan.at}
    places, titles = plan.after.decider.compiled.named, plan.after.charter.ranks
    ranks = [f"{titles[rank].called}{'' if place == SITE else f' in {places[place].called}'}" for rank, place in held]
    screen.paragraph(f"{called} keeps {listed(ranks)}." if held else f"{called} keeps no rank.", rest="  ")
    for rank, place in held:
        at = "" if place == SITE else f" --at {place}"
        screen.line(f"  → ask-above unassign {rank} {was}{at}", "dim")
    screen.line(f"Next steps for {plan.after.member(will_be).called}", "head")
    for command, why in _FOR_THE_NEW_OWNER:
        screen.line(f"  {command:<20}{why}")
    screen.line()


def _alone_in_new_places(plan: Plan) -> list[str]:
    """Return the places that a plan adds, where they say nothing themselves and nothing changes anywhere else."""
    before, after = plan.before.charter.places, plan.after.charter.places
    new = [key for key in after if key not in before]
    plain = all(not (p.overrides or p.exceptions or p.gate or p.like) for p in map(after.__getitem__, new))
    other = any(part.kind is not Kind.PLACE or part.key not in new for part in plan.difference.parts)
    if not new or not plain or other or plan.difference.given or plan.effect.turned:
        return []
    spots = {place for shift in plan.effect.shifts for place in shift.places}
    return new if spots <= set(new) and before.keys() <= after.keys() else []


def _maker(plan: Plan) -> str:
    """Say as whom a change is made."""
    if plan.by:
        return f"As {plan.before.member(plan.by).called}"
    return "As maintainer of the files (no --as)"


def _broken(screen: Screen, plan: Plan, *, force: bool) -> None:
    """Show what the change breaks, and whether it may be forced."""
    forced = force and plan.why and plan.may_pass
    for each in plan.passable:
        screen.paragraph(f"{'! Forced:' if forced else '✗'} {each}", rest="  ", style="warn" if forced else "no")
    if not plan.may_pass:
        screen.line("  Only the owner or the maintainer of the files may force that.")
    elif not forced:
        screen.line("  To force it: --force --why TEXT")


def _is_anyway(plan: Plan, shift: Shift) -> bool:
    """Whether only those gain something who may do everything anyway: what is new is new to them too."""
    compiled, now = plan.after.decider.compiled, plan.at
    # a new place is new to the owner as well, and no gain
    free = all(compiled.charter.ranks[key].unbounded for key in shift.ranks)
    return free and not shift.visitor and all(_may_all(plan, key, now) for key in shift.members)


def _may_all(plan: Plan, key: str, now: int) -> bool:
    if any(key not in names.register.members for names in (plan.before, plan.after)):
        return False
    sides = [(names.decider, names.decider.people.ask(key, now)) for names in (plan.before, plan.after)]
    return all(
        asked.rules_all or any(e.rank in decider.compiled.unbounded and e.place == 0 for e in asked.holdings)
        for decider, asked in sides
    )


def _table(screen: Screen, plan: Plan) -> None:
    """Show what becomes of each, of many at once or of one whom the sentence does not name."""
    rows, changes = [], plan.rows_of_news
    for row in changes[: at_most(_MOST_IN_TABLE)]:
        key = whose(row)
        community = plan.after if key in plan.after.register.members else plan.before
        rows.append([community.register.members[key].called, key, _change(plan, row)])
    if len({whose(row) for row in changes}) <= 1 and all(name in plan.what for name, *_ in rows):
        return
    screen.line()
    screen.table(["Name", "Key", "Change"], rows)
    screen.more(len(changes) - len(rows))


def _change(plan: Plan, row: RowChange) -> str:
    before, after = row.before or {}, row.after or {}
    if row.table == "members":
        if not before:
            return f"new, {after['status']}"
        # what somebody was before a lock is kept for bringing them back, and tells nobody anything
        changed = [name for name in after if after[name] != before.get(name, "") and name != "was"]
        return "; ".join(f"{name}: {before.get(name) or '-'} → {after[name] or '-'}" for name in changed)
    rank, source = given_rank(after or before, plan.after if after else plan.before), after.get("source", "")
    if before and after and before.get("source", "") != source:
        return f"{rank}: kept by {source or 'hand'}"
    return f"{'assigned' if after else 'unassigned'} {rank}"


def show_journal(
    screen: Screen,
    entries: Sequence[Entry],
    names: dict[str, str],
    charter: Charter,
    replaced: Iterable[Lines] | None = None,
) -> None:
    """Show entries of the journal, the latest first; times are in the charter's time zone, which is named.

    Of one alone all is shown, with the lines that it ``replaced``.
    """
    if not entries:
        screen.line("No entries.")
    else:
        screen.line(f"Times in {charter.rules.timezone}", "dim")
    for entry in entries:
        who = maker_of(entry, names)
        marks = {"hand": "by hand", "import": "import", "undo": "undo", "forget": "for good"}.get(entry.kind, "")
        said = f"{entry.number}  {minute(entry.at, charter.zone)}  {who}{f'  ({marks})' if marks else ''}"
        screen.line(f"{said}{f'  undone by {entry.undone_by}' if entry.undone_by else ''}", "head")
        screen.paragraph(f"{entry.what}{' (forced)' if entry.forced else ''}", first="    ", rest="    ")
        if entry.why:
            screen.paragraph(f"because: {entry.why}", first="    ", rest="    ")
        shown = entry.effect if replaced is not None else entry.effect[:3]
        for line in shown:
            screen.paragraph(line, first="    ", rest="      ", style="yes" if line.startswith("+") else "no")
        screen.more(len(entry.effect) - len(shown), "    ", f"; ask-above journal {entry.number}")
    for lines in replaced or ():
        screen.line(f"    {lines.file}, line {lines.first}:", "dim")
        for sign, texts, style in (("-", lines.old, "no"), ("+", lines.new, "yes")):
            for text in texts:
                screen.line(f"      {sign} {text}", style)


def maker_of(entry: Entry, names: Mapping[str, str]) -> str:
    """Say who made a change, by the name of then and the key: another name makes nobody somebody else."""
    if not entry.who:
        return "maintainer"
    called = entry.name or names.get(entry.who, entry.who)
    return called if called == entry.who else f"{called} ({entry.who})"


def journal_table(entries: Sequence[Entry]) -> Table:
    """Return entries as a table."""
    rows = [
        [e.number, e.at, e.who, e.kind, e.what, e.why, "; ".join(e.effect), e.undone_by, e.name, list(e.reverts) or ""]
        for e in entries
    ]
    columns = ("number", "at", "who", "kind", "what", "why", "effect", "undone_by", "name", "reverts")
    return Table(columns, rows, [{**e._asdict(), "rows": [r._asdict() for r in e.rows]} for e in entries])


def show_understood(screen: Screen, name: str, understood: Understood, *, whole: bool) -> None:
    """Show which column is which field, and what else was recognised; with ``whole`` the first rows too."""
    renamed = [(column, field) for column, field in understood.columns if column != field]
    if understood.columns and (whole or renamed or understood.notes):
        said = ", ".join(f"{column or 'a column without a name'} → {field or 'left out'}" for column, field in renamed)
        screen.paragraph(f"{name}: {said or 'every column is called as here'}.", rest="  ", style="head")
    for note in understood.notes:
        screen.paragraph(note, first="  ", rest="  ")
    if whole and understood.rows:
        heads = list(dict.fromkeys(field for _, field in understood.columns if field))
        shown = [head for head in heads if head in understood.rows[0]] or list(understood.rows[0])
        if "name" in understood.rows[0] and "name" not in shown:
            shown.insert(0, "name")
        screen.table(
            [head.capitalize() for head in shown], [[row.get(h, "") for h in shown] for row in understood.rows]
        )
        screen.line()
