"""Advice about ranks, their order, and what they grant."""

from __future__ import annotations

from collections.abc import Iterator

from ask_above.ask.advice.piece import Piece, Sight, leave
from ask_above.change.reach import conditions_on, everybodys
from ask_above.charter.ladder import Rank
from ask_above.charter.names import listed
from ask_above.charter.rules import Act, Over
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.explain import source_of
from ask_above.escalation.climb import climb
from ask_above.escalation.ground import Ground
from ask_above.escalation.moves import sentence

_NEARLY_EVERYONE = 0.5
"""The share of the active members from which on most have a rank."""


def still_carried(sight: Sight) -> Iterator[Piece]:
    """Find a capability that an automatic rank withholds and other ranks grant (rule 3.3)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    for rank in compiled.ranks:
        if not rank.automatic or not rank.withhold:
            continue
        for key in catalogue.names(catalogue.expand_all(rank.withhold)):
            bit = catalogue.bit[key]
            carrying = [r for r in compiled.ranks if compiled.granted(r) & bit and not r.unbounded]
            if carrying:
                titles = listed(carrier.called for carrier in carrying)
                verb = "grants" if len(carrying) == 1 else "grant"
                yield Piece(
                    "still-carried",
                    rank.withhold.where,
                    f"{rank.called} withholds {key}, but {titles} {verb} it",
                    f"withhold {key} from {titles} too, or deny it to {rank.called} on the whole site",
                    tuple(carrier.key for carrier in carrying),
                    tuple(f"ask-above rank withhold {carrier.key} {key}" for carrier in carrying),
                )


def taken_from_everybody(before: CompiledCharter, after: CompiledCharter) -> Iterator[Piece]:
    """Find what a change takes from an automatic rank, or from an original, and other ranks still grant."""
    for rank in after.ranks:
        was = before.charter.ranks.get(rank.key)
        if was is None or rank.unbounded:
            continue
        lost = before.granted(was) & ~after.granted(rank)
        for key in after.catalogue.names(lost) if after.catalogue.keys == before.catalogue.keys else ():
            bit = after.catalogue.bit[key]
            others = [r for r in after.ranks if after.granted(r) & bit and not r.unbounded]
            others = [r for r in others if rank.automatic or r.copied_from == rank.key]
            if others:
                titles, verb = listed(each.called for each in others), "grants" if len(others) == 1 else "grant"
                commands = tuple(f"ask-above rank withhold {each.key} {key}" for each in others)
                keys = tuple(each.key for each in others)
                if rank.automatic:
                    what = f"{rank.called} no longer grants {key}, but {titles} {verb} it"
                    yield Piece("still-carried", rank.where, what, f"withhold {key} from {titles} too", keys, commands)
                else:
                    what = f"{titles}, copied from {rank.called}, still {verb} {key}"
                    yield Piece(
                        "copy-behind", rank.where, what, "withhold what the copy should not grant", keys, commands
                    )


def builds_on(sight: Sight) -> Iterator[Piece]:
    """Find ranks that build on a higher one, on an unbounded one, or on one with overrides of its own (rule 3.2)."""
    named: dict[str, list[str]] = {}
    for place in sight.compiled.places:
        for entry in place.overrides:
            if not entry.above and entry.speaks:
                named.setdefault(entry.of, []).append(sight.compiled.named[place.key].called)
    for rank in sight.compiled.ranks:
        for key in rank.builds_on:
            base = sight.charter.ranks[key]
            if base.position < rank.position:
                what = f"{rank.called} builds on {base.called}, which stands above it"
                mend = f"grant {rank.called} what it needs by name, or let {base.called} build on {rank.called}"
                yield Piece("builds-on-higher", rank.where, what, mend, (rank.key, key), _by_name(sight, rank, key))
            if base.unbounded:
                what = f"{rank.called} builds on {base.called}, which is unbounded; {rank.called} is not"
                mend = f"grant {rank.called} what it needs by name"
                rest = ",".join(each for each in rank.builds_on if each != key)
                commands = (f"ask-above rank set {rank.key} builds-on={rest}",)
                yield Piece("builds-on-unbounded", rank.where, what, mend, (rank.key, key), commands)
            elif key in named:
                places = listed(named[key])
                what = f"{rank.called} builds on {base.called}, but not on its overrides in {places}"
                mend = f"write {key}+ there, which includes {rank.called}, or add an override for {rank.called}"
                if rank.position < base.position:
                    yield Piece("builds-on-overrides", rank.where, what, mend, (rank.key, key))


def _by_name(sight: Sight, rank: Rank, base: str) -> tuple[str, ...]:
    """Return the commands that grant a rank by name what it grants, and end its building on a base."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    own = catalogue.close(catalogue.expand_all(rank.grants))
    for key in rank.builds_on:
        own |= compiled.granted(key) if key != base else 0
    names = catalogue.names(compiled.granted(rank) & ~own)
    rest = ",".join(key for key in rank.builds_on if key != base)
    grant = (f"ask-above rank grant {rank.key} {' '.join(names)}",) if names else ()
    return (*grant, f"ask-above rank set {rank.key} builds-on={rest}")


def moderating(sight: Sight) -> Iterator[Piece]:
    """Find moderating ranks that no rank stands below, or that stand below most members (rule 6.3)."""
    rule = sight.charter.rules.act(Act.MODERATE)
    if rule.over is Over.ANYONE:
        return
    ladder = sight.compiled.ladder
    for rank in sight.compiled.ranks:
        if rank.unbounded or rank.automatic or not sight.acting(rank, Act.MODERATE):
            continue
        entry, reached = rank.lists.get(Act.MODERATE), ladder.reached(ladder.at(rank), rule.over)
        below = [each for each in reached if entry is None or entry.admits(each.key)]
        if not below:
            what = f"{rank.called} may moderate, but no rank that it may moderate stands below it"
            yield Piece(
                "moderates-nobody", rank.where, what, f"move {rank.called} up the ladder", (rank.key,), _up(rank)
            )
        for above in ladder.above(rank.position):
            if _nearly_everyone(sight, above):
                held = (
                    "every member has"
                    if above.automatic
                    else f"{sight.holders[above.position]:,} of {sight.active:,} members have"
                )
                what = f"{rank.called} may moderate, but stands below {above.called}, which {held}"
                mend = f"move {rank.called} above {above.called} on the ladder"
                commands = (f"ask-above rank move {rank.key} --above {above.key}",)
                yield Piece("below-everyone", rank.where, what, mend, (rank.key, above.key), commands)


def _up(rank: Rank) -> tuple[str, ...]:
    return (f"ask-above rank move {rank.key} --up",)


def _nearly_everyone(sight: Sight, rank: Rank) -> bool:
    if rank.held_by in ("anyone", "members"):
        return True
    return bool(sight.active) and sight.holders[rank.position] >= _NEARLY_EVERYONE * sight.active


def badges(sight: Sight) -> Iterator[Piece]:
    """Find ranks that grant nothing and stand above one with power over people."""
    compiled = sight.compiled
    spoken = {entry.of for place in compiled.places for entry in place.overrides if entry.allow}
    ranges = [compiled.rank_at[e.of] for place in compiled.places for e in place.overrides if e.above and e.allow]
    for rank in compiled.ranks:
        plain = not rank.unbounded and not rank.automatic and not rank.kept_by and not compiled.granted(rank)
        if not plain or rank.key in spoken or any(rank.position <= last for last in ranges):
            continue
        below = [r for r in compiled.ladder.below(rank.position) if not r.automatic and _has_power(sight, r)]
        if below:
            titles = listed(each.called for each in below)
            what = f"{rank.called} grants nothing and stands above {titles}"
            mend = f"move {rank.called} below {below[-1].called} on the ladder"
            commands = (f"ask-above rank move {rank.key} --below {below[-1].key}",)
            yield Piece("badge-above-power", rank.where, what, mend, (rank.key, *(r.key for r in below)), commands)


def _has_power(sight: Sight, rank: Rank) -> bool:
    return any(sight.acting(rank, act) for act in (Act.MODERATE, Act.ASSIGN, Act.MANAGE))


def risky_by_default(sight: Sight) -> Iterator[Piece]:
    """Find high risk that is granted or allowed to ranks which nobody assigns."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    risky = catalogue.mask(key for key, each in catalogue.capabilities.items() if each.risk == "high")
    for rank in compiled.ranks:
        how = (
            f"automatic for {rank.held_by}"
            if rank.held_by
            else "open to join"
            if rank.open
            else "the entry rank"
            if rank.entry
            else "assigned on joining"
        )
        if not (rank.held_by or rank.open or rank.entry or rank.on_joining):
            continue
        carried = catalogue.everything & risky if rank.unbounded else compiled.granted(rank) & risky
        for key in catalogue.names(carried):
            where = rank.where if rank.unbounded else source_of(compiled, rank, key)[0]
            what = f"{rank.called}, which is {how}, grants {key} (high risk)"
            out = () if rank.unbounded else (f"ask-above rank withhold {rank.key} {key}",)
            yield Piece("risky-by-default", where, what, f"withhold {key} from {rank.called}", (rank.key,), out)
        for place in compiled.places:
            for entry in place.overrides:
                if entry.of == rank.key and compiled.word_of(entry).allow & risky:
                    names = listed(catalogue.names(compiled.word_of(entry).allow & risky))
                    what = f"{rank.called}, which is {how}, is allowed {names} (high risk) {sight.at_place(place)}"
                    commands = leave(compiled, place, entry, compiled.word_of(entry).allow & risky)
                    mend = f"remove {names} from that override"
                    yield Piece("risky-by-default", entry.where, what, mend, (rank.key,), commands)


def detours(sight: Sight) -> Iterator[Piece]:
    """Find detours: a rank grants what leads to something that it does not grant (rule 2.2)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    for rank in compiled.ranks:
        if rank.unbounded:
            continue
        for key in catalogue.names(compiled.granted(rank)):
            led = [to for to in catalogue.capabilities[key].leads_to if not compiled.granted(rank) & catalogue.bit[to]]
            if led:
                what = f"{rank.called} grants {key}, which leads to {listed(led)}"
                mend = f"withhold {key} from {rank.called}, or grant it {listed(led)}"
                commands = (f"ask-above rank withhold {rank.key} {key}",)
                yield Piece("detour", source_of(compiled, rank, key)[0], what, mend, (rank.key,), commands)


def climbers(sight: Sight) -> Iterator[Piece]:
    """Find ranks that can climb to everything, or to high risk that they do not grant (rules 10.1 and 10.2)."""
    compiled, catalogue = sight.compiled, sight.compiled.catalogue
    high = catalogue.mask(key for key, each in catalogue.capabilities.items() if each.risk == "high")
    for rank in compiled.ranks:
        if rank.unbounded or not sight.decider.compiled.keep(Ground).may_stir(rank.position):
            continue
        climbed = climb(sight.decider.compiled.keep(Ground), sight.decider.reckoner, rank)
        mend = f"see what prevents it: ask-above climb {rank.key}"
        if climbed.free:
            what = f"{rank.called} can climb to an unbounded rank"
            yield Piece("climbs-to-everything", rank.where, what, mend, (rank.key,))
            continue
        # one that is a detour alone has a code of its own
        gains = [gain for gain in climbed.gains(high) if any(move.kind != "detour" for move in gain.moves)]
        if gains:
            names = listed(dict.fromkeys(gain.capability for gain in gains))
            what = f"{rank.called} can climb to {names}: {sentence(compiled.charter, gains[0].moves)}"
            yield Piece("climbs-to-high-risk", rank.where, what, mend, (rank.key,))


def same_carried(sight: Sight) -> Iterator[Piece]:
    """Find ranks that grant the same."""
    seen: dict[int, Rank] = {}
    for rank in sight.compiled.ranks:
        carried = sight.compiled.granted(rank)
        if rank.unbounded or rank.automatic or rank.kept_by or not carried:
            continue
        first = seen.setdefault(carried, rank)
        if first is not rank:
            what = f"{rank.called} and {first.called} grant the same"
            mend = f"merge them, or let {first.called} build on {rank.called}"
            commands = (f"ask-above rank remove {rank.key} --instead {first.key}",)
            yield Piece("same-carried", rank.where, what, mend, (first.key, rank.key), commands)


def everybodys_conditions(sight: Sight) -> Iterator[Piece]:
    """Find conditions that say nothing, as the rank they rest on is everybody's (rule 9.5)."""
    for rank in sight.compiled.ranks:
        flags = everybodys(rank)
        rest = conditions_on(rank, sight.compiled.ranks) if flags else ""
        if rest:
            what = f"{rank.called} is {listed(flags)}, and {rest}"
            yield Piece(
                "condition-void", rank.where, what, "remove the condition, or make the rank one that is assigned"
            )


def unheld(sight: Sight) -> Iterator[Piece]:
    """Find ranks that nobody has, now or later."""
    if not sight.register.members:
        return
    later = {assignment.rank for asked, _ in sight.alike for assignment in asked.later}
    for rank in sight.compiled.ranks:
        unasked = rank.automatic or rank.entry or rank.kept_by or rank.paused
        if not (unasked or rank.key in later or sight.holders[rank.position]):
            mend = f"assign {rank.called}, or remove it"
            commands = (f"ask-above rank remove {rank.key} --none",)
            yield Piece("unheld", rank.where, f"no member has {rank.called}", mend, (rank.key,), commands)


def copies(sight: Sight) -> Iterator[Piece]:
    """Find copies that grant what their original withholds; what was added to a copy is its own."""
    compiled = sight.compiled
    for rank in compiled.ranks:
        original = sight.charter.ranks.get(rank.copied_from or "")
        if original is None or original.unbounded:
            continue
        withheld = compiled.catalogue.expand_all(original.withhold)
        more = compiled.catalogue.names(compiled.granted(rank) & withheld)
        if more:
            what = f"{rank.called} grants {listed(more)}, which its original, {original.called}, withholds"
            mend = "withhold what the copy should not grant"
            commands = (f"ask-above rank withhold {rank.key} {' '.join(more)}",)
            yield Piece("copy-behind", rank.where, what, mend, (rank.key, original.key), commands)
