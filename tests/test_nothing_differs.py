"""Nothing is said to differ only where no answer of any kind does, for anybody, anywhere, now or later (rule 9.6)."""

from __future__ import annotations

from collections.abc import Iterator
from copy import deepcopy
from datetime import UTC, datetime, timedelta
from random import Random
from typing import Any

import pytest

from ask_above import AskAboveError, Community
from ask_above.bulk.differences import crowds
from ask_above.change import Assign, CharterSet, Edit, GroupAdd, Unassign, turns
from ask_above.change.difference import Difference
from ask_above.change.parts import Kind, State
from ask_above.change.reach import Reach
from ask_above.charter.catalogue import Catalogue
from ask_above.charter.changes import granting, saying, with_rank
from ask_above.charter.charter import Charter
from ask_above.charter.moments import instant
from ask_above.charter.places import Gate, GateTerm
from ask_above.charter.rules import Act
from ask_above.decide import walk
from ask_above.decide.decider import VISITOR
from generated import NOW, Generated, generate
from seeds import seeds
from small import held, member, texts
from small import place as spot
from small import rank as ranked
from standard import Size, charter, register

pytestmark = pytest.mark.slow

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def mutated(rng: Random, made: Generated) -> Generated:
    """One small change of the raw data, which may well mean nothing."""
    other = deepcopy(made)
    data = other.charter
    rank: dict[str, Any] = rng.choice(data["ranks"])
    ranks = [each["key"] for each in data["ranks"]]
    place: dict[str, Any] = rng.choice([data["site"], *data["places"]])
    what = rng.randrange(38)
    if what > 14:
        of_the_rules(rng, other, what - 15)
    elif what == 0:
        rank[rng.choice(["title", "about", "badge"])] = "Other"
    elif what == 1:
        rank["call"] = rng.choice(["open", "closed"])
    elif what == 2:
        rank["limit"] = str(rng.randint(0, 3))
    elif what == 3:
        rank[rng.choice(["after", "apart-from"])] = [rng.choice(ranks)]
    elif what == 4:
        rank[rng.choice(["moderates", "assigns", "manages"])] = {"only": [rng.choice(ranks)]}
    elif what == 5 and "held-by" not in rank:
        rank[rng.choice(["open", "on-joining"])] = rng.choice(["true", "false"])
    elif what == 6:
        rank["grants"] = [*rank.get("grants", []), "a.one" if "a.one" in str(data["capabilities"]) else "*"][:1]
    elif what == 7:
        rng.shuffle(data["ranks"])
    elif what == 8:
        place.setdefault("overrides", {})[rng.choice(ranks)] = {"deny": ["see.it"]}
    elif what == 9:
        place["gate"] = {"none": [rng.choice(ranks)]}
    elif what == 10:
        rng.choice(data["groups"])["confers"] = (
            [next(r["key"] for r in data["ranks"] if "held-by" not in r)]
            if any("held-by" not in r for r in data["ranks"])
            else []
        )
    elif what == 11:
        rng.choice(other.members)[rng.choice(["name", "note", "email"])] = "x@y.example"
    elif what == 12:
        rng.choice(other.members)["status"] = rng.choice(["active", "pending", "locked", "retired"])
    elif what == 13 and other.assignments:
        rng.choice(other.assignments)[rng.choice(["from", "until"])] = (
            NOW + timedelta(days=rng.randint(-3, 5))
        ).strftime("%Y-%m-%d")
    elif other.assignments:
        other.assignments.remove(rng.choice(other.assignments))
    return other


def of_the_rules(rng: Random, made: Generated, what: int) -> None:
    """One change of what ranks hold, of what places say, of the rules themselves, or of who somebody is."""
    data = made.charter
    rank, rule = rng.choice(data["ranks"]), data["rules"].setdefault("authority", {}).setdefault
    ranks, capabilities = [each["key"] for each in data["ranks"]], data["capabilities"]["All"]
    names = [
        name
        for key, said in capabilities.items()
        for name in ((f"{key}.own", f"{key}.all") if "authored" in said else (key,))
    ]
    place, person = rng.choice([data["site"], *every_place(data["places"])]), rng.choice(made.members)
    holder, name = rng.choice([*ranks, *(f"{key}+" for key in ranks), "g0", "g1"]), rng.choice(names)
    words = {rng.choice(["allow", "deny", "bar"]): [name]}
    changes: list[tuple[dict[str, Any], str, Any]] = [
        (rank, "paused", rng.choice(["true", "false"])),
        (rank, "unbounded", rng.choice(["true", "false"])),
        (rank, "kept-by", "outside"),
        (rank, "held-by", rng.choice(["anyone", "visitors", "members", "bots"])),
        (rank, "builds-on", [rng.choice(ranks)]),
        (rank, "withhold", [name]),
        (rank, "entry", rng.choice(["true", "false"])),
        (place.setdefault("exceptions", {}), person["key"], words),
        (place.setdefault("overrides", {}), holder, words),
        (place, "gate", {rng.choice(["any", "all", "none"]): [holder]}),
        (place, "gate", {}),
        (data["rules"], "disagreement", rng.choice(["topmost", "deny", "allow"])),
        (rule(rng.choice(["moderate", "assign", "manage"]), {}), "over", rng.choice(["below", "level", "anyone"])),
        (rule(rng.choice(["assign", "manage"]), {}), "hand-on", rng.choice(["held", "any"])),
        (rule("assign", {}), "self", rng.choice(["true", "false"])),
        (rule(rng.choice(["moderate", "assign", "manage", "call"]), {}), "using", [name]),
        (data["rules"], "seeing", name),
        (capabilities[rng.choice(list(capabilities))], rng.choice(["implies", "needs"]), [name]),
        (capabilities[rng.choice(list(capabilities))], "kinds", [rng.choice(["site", "board", "journal", "section"])]),
        (person, "groups", rng.choice(["", "g0", "g1", "g0;g1"])),
        (person, "kind", rng.choice(["person", "bot"])),
        (data, "owner", person["key"]),
        (data["groups"][0], "includes", ["g1"]),
    ]
    where, field, value = changes[what]
    where[field] = value


def every_place(places: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for place in places:
        yield place
        yield from every_place(place.get("places", []))


def answers(c: Community, when: datetime) -> dict[Any, bool]:
    """Every answer there is, at a moment."""
    members, ranks = list(c.register.members), list(c.charter.ranks)
    people = [*members, *(f"rank:{key}" for key in ranks), VISITOR]
    found: dict[Any, bool] = {}
    for p in c.charter.places:
        for who in people:
            for name in c.charter.catalogue.keys:
                found["may", who, name, p] = c.may(who, name, at=p, when=when).allowed
            for rank in ranks:
                found["call", who, rank, p] = c.may_call(who, rank, at=p, when=when).allowed
                found["assign", who, rank, "", p] = c.may_assign(who, rank, at=p, when=when).allowed
                for target in members:
                    found["assign", who, rank, target, p] = c.may_assign(who, rank, to=target, at=p, when=when).allowed
                    found["unassign", who, rank, target, p] = c.may_unassign(
                        who, rank, of=target, at=p, when=when
                    ).allowed
            for target in people:
                for using in (None, *c.charter.rules.act(Act.MODERATE).using):
                    found["moderate", who, target, using, p] = c.may_moderate(
                        who, target, at=p, using=using, when=when
                    ).allowed
    for who in people:
        for rank in ranks:
            found["manage", who, rank] = c.may_manage(who, rank, when=when).allowed
    return found


def held_to_all_answers(seed: int, pairs: int) -> tuple[int, int]:
    """Compare pairs; return how many were said to differ in nothing, and how many there were."""
    rng, nothing, tried = Random(seed), 0, 0
    while tried < pairs:
        made = generate(rng)
        try:
            old, new = made.open(), mutated(rng, made).open()
        except AskAboveError:
            continue
        tried += 1
        if old.impact(new, when=NOW):
            continue
        nothing += 1
        edges = {
            edge
            for c in (old, new)
            for each in c.register.assignments
            for edge in (each.period.start, each.period.end)
            if edge is not None
        }
        for when in (NOW, *(EPOCH + timedelta(microseconds=edge) for edge in sorted(edges))):
            if when >= NOW:
                # by the yes: what one charter knows no such act for is a no there
                yes = [{asked for asked, allowed in answers(c, when).items() if allowed} for c in (old, new)]
                assert yes[0] == yes[1], (seed, tried, made.charter)
    return nothing, tried


@pytest.mark.parametrize("seed", seeds(2))
def test_where_nothing_is_said_to_differ_no_answer_does(seed: int) -> None:
    nothing, tried = held_to_all_answers(seed, 25)
    assert 0 < nothing < tried


@pytest.mark.parametrize("seed", seeds(3))
def test_whatever_differs_it_is_held_to_the_same_one_by_one_and_in_arrays(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng, refused = Random(seed), 0
    for made in (generate(rng) for _ in range(45)):
        try:
            old, new = made.open(), mutated(rng, mutated(rng, made)).open()
        except AskAboveError:
            continue
        sides = [State(c.charter, c.register) for c in (old, new)]
        difference = Difference(sides[0], sides[1], instant(NOW))
        if any(part.kind not in (Kind.RANK, Kind.PLACE, Kind.MEMBER) for part in difference.parts):
            continue  # the owner's, who is held to no effect
        for actor in old.register.members:
            said = []
            for few in (1_000_000, 0):
                monkeypatch.setattr(turns, "_FEW", few)
                said.append(Reach(old.decider, new.decider, difference, instant(NOW)).refusals(actor))
            assert said[0] == said[1], (made.charter, actor)
            refused += any(each.rule.startswith("9.7") for each in said[0])
    assert refused


@pytest.mark.parametrize("status", ["locked", "retired"])
def test_what_only_a_rank_that_nobody_has_might_assign_differs_too(status: str) -> None:
    ranks = [ranked("lead", "rank.assign"), ranked("crew")]
    old, new = (
        Community.from_texts(texts(*ranks, members=[member("bo", status=each)])) for each in ("invited", status)
    )
    assert old.may_assign("rank:lead", "crew", to="bo").allowed
    assert not new.may_assign("rank:lead", "crew", to="bo").allowed
    assert old.impact(new).may_differ == ["Whoever may assign ranks: which ranks they may assign to Bo may change."]


def test_of_very_many_ranks_and_places_it_is_said_what_was_not_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    size = Size(ranks=130, capabilities=30, places=500, overrides=800, members=40, profiles=10)
    old = Community(charter(size), register(size))
    rank, place, capability = [*old.charter.ranks][60], [*old.charter.places][7], old.charter.catalogue.keys[3]
    new = old.after(charter=saying(old.charter, place, rank, "deny", (capability,), above=False, member=False))
    impact, reckoned = old.impact(new), 0
    held = walk.held

    def counted(*given: Any, **words: Any) -> walk.Held:
        nonlocal reckoned
        reckoned += 1
        return held(*given, **words)

    monkeypatch.setattr(walk, "held", counted)
    assert impact.powers == []
    assert "Which ranks may act on which may change; there are too many ranks and places to test each." in (
        impact.may_differ
    )
    assert impact.not_compared in impact.may_differ
    assert impact.not_compared in " ".join(str(impact).split())  # beside what is lost, on the screen too
    assert reckoned < len(old.charter.ranks) * len(old.charter.places)


PEOPLE = ("has", "in-group", "inside", "excepted", "other")


def of_five_people() -> Community:
    people = [member(key) for key in PEOPLE]
    people[1]["groups"], people[2]["groups"] = "outer", "inner"
    groups = [{"key": "inner", "includes": ["core"]}, {"key": "core"}]
    return Community.from_texts(
        texts(
            ranked("crew", "post.write"),
            ranked("guest", "post.pin"),
            ranked("everyone", "place.see", held_by="members"),
            members=people,
            assignments=[held("has", "crew"), held("other", "guest"), held("excepted", "guest")],
            groups=[*groups, {"key": "outer", "includes": ["inner"], "confers": ["crew"]}],
            places=[spot("yard", exceptions={"excepted": {"allow": ["post.write"]}})],
        )
    )


def concerned(old: Community, new: Charter) -> set[str]:
    return {*crowds(old.decider, old.after(charter=new).decider, instant(NOW)).members}


def test_of_what_is_said_of_one_rank_those_alone_are_looked_at_whom_it_may_concern() -> None:
    c = of_five_people()
    assert concerned(c, granting(c.charter, "crew", ["post.publish"])) == {"has", "in-group", "inside"}
    assert concerned(c, saying(c.charter, "yard", "guest", "deny", ["post.pin"])) == {"other", "excepted"}
    assert concerned(c, saying(c.charter, "yard", "excepted", "allow", ["post.pin"], member=True)) == {"excepted"}
    assert concerned(c, granting(c.charter, "everyone", ["post.pin"])) == {*PEOPLE}
    assert concerned(c, granting(c.charter, "crew", ["rank.assign"])) == {*PEOPLE}  # ranks are acted on with it


def test_of_any_other_change_of_the_charter_everybody_is_looked_at() -> None:
    c = of_five_people()
    before, crew, yard = c.charter, c.charter.ranks["crew"], c.charter.places["yard"]
    catalogue, inner = before.catalogue.capabilities, before.groups["inner"]
    opened, entry = (with_rank(before, rank) for rank in (crew._replace(open=True), crew._replace(entry=True)))
    pin, guest = catalogue["post.pin"]._replace(needs=("post.edit.own",)), before.ranks["guest"]
    exchanged = {"post.pin": "post.write", "post.write": "post.pin"}
    ranks = {"crew": crew._replace(grants=guest.grants), "guest": guest._replace(grants=crew.grants)}
    others = [
        opened,
        before._replace(rules=before.rules._replace(disagreement="deny")),
        before._replace(catalogue=Catalogue({**catalogue, "post.pin": pin})),
        # each grants what stands where the other's stood: the same bits for other things
        before._replace(
            catalogue=Catalogue({exchanged.get(key, key): catalogue[exchanged.get(key, key)] for key in catalogue}),
            ranks={**before.ranks, **ranks},
        ),
        before._replace(groups={**before.groups, "inner": inner._replace(includes=())}),
        before._replace(places={**before.places, "yard": yard._replace(gate=Gate(any=(GateTerm("crew"),)))}),
        before._replace(places={**before.places, "yard": yard._replace(kind="stage")}),
    ]
    assert all(concerned(c, other) == {*PEOPLE} for other in others)
    # who likes may join a rank, and who comes may hold it
    for base in (c.after(charter=other) for other in (opened, entry)):
        assert concerned(base, granting(base.charter, "crew", ["post.pin"])) == {*PEOPLE}


@pytest.mark.parametrize(
    ("edit", "bears"),
    [
        (CharterSet("rules.advice.most-unbounded", "3"), False),
        (CharterSet("rules.accounts.using", "member.mute"), False),
        (CharterSet("rules.call.using", "rank.assign"), False),
        (CharterSet("capabilities.Machinery.job.schedule.about", "Plan jobs"), False),
        (CharterSet("bundles.few", ["post.write"]), False),
        (GroupAdd("night-watch"), False),
        (CharterSet("rules.authority.assign.self", "true"), True),
        (CharterSet("rules.disagreement", "deny"), True),
    ],
)
def test_that_ranks_may_be_assigned_otherwise_is_said_where_what_differs_bears_on_it(edit: Edit, bears: bool) -> None:
    assert any("which ranks they may assign" in said for said in Community.demo().plan(edit).effect.may_differ) == bears


def test_that_a_rank_is_full_or_has_room_again_is_said_of_whoever_else_might_get_it() -> None:
    people = [member("ann"), member("bo")]
    badge = [ranked("lead", "rank.assign"), ranked("badge", limit=1)]
    for given, edit, reason in (
        ([], Assign("ann", "badge"), "its limit is reached"),
        ([held("ann", "badge")], Unassign("ann", "badge"), "it has room again"),
    ):
        c = Community.from_texts(texts(*badge, members=people, assignments=given))
        sentence = f"Whoever may assign ranks: to whom they may assign Badge may change, because {reason}."
        assert sentence in c.plan(edit).effect.may_differ
        assert sentence in " ".join(str(c.plan(edit)).split())
