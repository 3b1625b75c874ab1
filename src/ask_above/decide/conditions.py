"""What must be true of whoever is given a rank, whoever gives it (rule 6.8)."""

from __future__ import annotations

from collections.abc import Iterator

from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import how_many, listed
from ask_above.decide.answer import Step
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.profile import Asked, How, People
from ask_above.decide.words import in_place
from ask_above.people.register import Status


def conditions(people: People, rank: Rank, target: Asked, chain: tuple[int, ...], at: Instant) -> list[Step]:
    """Return the conditions of ``rank`` that ``target`` does not meet, or one step that says they are met."""
    compiled = people.compiled
    steps = [*_status(target), *_after(compiled, rank, target, chain), *_apart(compiled, rank, target)]
    steps += _limit(people, rank, target, at)
    if not steps and (rank.after or rank.apart_from or rank.limit is not None):
        steps.append(Step("6.8", "conditions", {"rank": rank.title}, holds=True))
    return steps


def _status(target: Asked) -> Iterator[Step]:
    if target.status not in (Status.ACTIVE, Status.PENDING, Status.INVITED):
        yield Step("6.8", "target-status", {"target": target.label, "status": target.status}, holds=False)


def _after(compiled: CompiledCharter, rank: Rank, target: Asked, chain: tuple[int, ...]) -> Iterator[Step]:
    """Every rank of ``after`` is recorded for the target on the way to the place."""
    recorded = {holding.rank for holding in target.recorded if holding.how == How.AUTOMATIC or holding.place in chain}
    missing = [compiled.charter.ranks[key].title for key in rank.after if compiled.rank_at[key] not in recorded]
    if missing:
        place = in_place(compiled.places[chain[-1]].title, site=len(chain) == 1)
        words = {"rank": rank.title, "needed": listed(missing), "place": place, "target": target.label}
        yield Step("6.8", "after", words, holds=False)


def _recorded_anywhere(compiled: CompiledCharter, target: Asked) -> set[str]:
    """Return the ranks recorded for someone at any place, now or starting later."""
    now = {compiled.ranks[holding.rank].key for holding in target.recorded}
    return now | {assignment.rank for assignment in target.later}


def _apart(compiled: CompiledCharter, rank: Rank, target: Asked) -> Iterator[Step]:
    """No rank that must stay apart is recorded for the target; it works both ways."""
    for key in sorted(_recorded_anywhere(compiled, target), key=compiled.rank_at.__getitem__):
        other = compiled.charter.ranks[key]
        if key in rank.apart_from or rank.key in other.apart_from:
            words = {"rank": rank.title, "other": other.title, "target": target.label}
            yield Step("6.8", "apart", words, holds=False)


def _limit(people: People, rank: Rank, target: Asked, at: Instant) -> Iterator[Step]:
    """With the target at most ``limit`` members, the retired not counted, have the rank recorded."""
    if rank.limit is None:
        return
    count = 1
    for other in people.all(at):
        if other.key != target.key and not other.is_retired:
            count += rank.key in _recorded_anywhere(people.compiled, other)
    if count > rank.limit:
        words = {
            "rank": rank.title,
            "limit": how_many(rank.limit, "member"),
            "target": target.label,
            "count": str(count),
        }
        yield Step("6.8", "limit", words, holds=False)
