"""What an edit writes, to the item: into which place of a list, beside what, for whom."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from random import Random
from typing import Any

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import (
    Assign,
    CharterRemove,
    Edit,
    GroupRemove,
    MemberAdd,
    MemberSet,
    MemberStatus,
    PlaceMove,
    RankAdd,
    RankRemove,
    RankSet,
    Say,
    Unassign,
)
from ask_above.change.difference import Difference
from ask_above.change.importing import COLUMNS, Import
from ask_above.change.parts import Coverage, State, coverage
from ask_above.charter.moments import Period
from ask_above.files.csv_rows import read_rows
from ask_above.people.register import Assignment
from generated import Generated, generate
from small import held, member, place, rank, texts

ORDER = ("one", "two", "three", "four", "five")
RANKS = tuple(rank(key, "post.write") for key in ORDER)
CAST = [member("ada"), member("bo"), member("cy")]


def there(folder: Path, *ranks: dict[str, Any], **how: Any) -> Community:
    for name, text in texts(*(ranks or RANKS), **{"members": CAST, "owner": "ada", **how}).items():
        (folder / name).write_text(text, "utf-8")
    return Community.open(folder)


def after(c: Community, *edits: Any) -> Community:
    c.plan(*edits).apply()
    return Community.open(c.home.folder)


class TestWhatAPlaceSays:
    def test_what_is_taken_back_is_what_was_said_and_nothing_that_brings_it(self, tmp_path: Path) -> None:
        hall = place("hall", overrides={"one": {"allow": ["post.publish", "post.write"], "deny": ["post.pin"]}})
        c = there(tmp_path, places=[hall])
        assert c.charter.catalogue.capabilities["post.publish"].implies == ("post.write",)
        c = after(c, Say("hall", "one", "clear", ["post.write", "post.pin"]))
        (said,) = c.charter.places["hall"].overrides
        assert (said.allow.words, said.deny.words) == (("post.publish",), ())
        # to deny it is more: what brings it goes too
        c = after(c, Say("hall", "one", "deny", ["post.write"]))
        (said,) = c.charter.places["hall"].overrides
        assert (said.allow.words, said.deny.words) == ((), ("post.write",))


class TestMany:
    def test_many_new_ones_and_changes_of_others_are_kept_together(self, tmp_path: Path) -> None:
        there(tmp_path)
        edits: list[Edit] = [MemberAdd(f"new{n}", {"name": f"New {n}"}) for n in range(15)]
        edits += [Assign(f"new{n}", "one") for n in range(15)]
        c = after(Community.open(tmp_path), MemberAdd("before"), Assign("bo", "two"))
        c = after(c, *edits, MemberSet("bo", {"name": "Bo Reed"}), Unassign("bo", "two"), Assign("cy", "two"))
        people = c.register.members
        assert (people["bo"].name, people["new14"].name, len(people)) == ("Bo Reed", "New 14", len(CAST) + 16)
        assert not c.register.of("bo")
        assert [c.register.of(key)[0].rank for key in ("cy", "new0", "new14")] == ["two", "one", "one"]
        assert {n for n, (row,) in enumerate(c.register.of(f"new{n}") for n in range(15)) if row.number} == {*range(15)}


class TestRanks:
    @pytest.mark.parametrize("below", ["one", "three", "five"])
    def test_a_new_one_stands_directly_below(self, tmp_path: Path, below: str) -> None:
        ladder = [*after(there(tmp_path), RankAdd("new", {"grants": ["post.pin"]}, below=below)).charter.ranks]
        assert ladder.index("new") == ladder.index(below) + 1

    def test_of_what_a_group_confers_only_a_removed_one_goes(self, tmp_path: Path) -> None:
        groups = [{"key": "team", "confers": [{"rank": "one"}, {"rank": "two"}, {"rank": "three", "place": "hall"}]}]
        c = after(there(tmp_path, groups=groups), RankRemove("two"))
        assert [each.rank for each in c.charter.groups["team"].confers] == ["one", "three"]

    def test_another_is_given_instead_where_it_is_not_held_already(self, tmp_path: Path) -> None:
        given = [
            held("bo", "two"),
            held("bo", "three"),  # covers it: nothing is given
            held("cy", "two", since="2020-01-01"),
            held("cy", "three", "hall"),  # elsewhere
            held("ada", "two"),
            held("ada", "three", until="2100-01-01"),  # ends before it would
        ]
        plan = there(tmp_path, assignments=given).plan(RankRemove("two", instead="three"), by="ada")
        plan.apply()
        c = Community.open(tmp_path)
        # who removes it assigns the other: nobody else may say so
        assert {each.by for each in c.register.of("cy") if each.place == "site"} == {"ada"}
        held_now = sorted((each.member, each.rank, each.place) for each in c.register.assignments)
        assert held_now == [
            ("ada", "three", "site"),
            ("ada", "three", "site"),
            ("bo", "three", "site"),
            ("cy", "three", "hall"),
            ("cy", "three", "site"),
        ]

    def test_what_stays_as_it_is_stays_as_it_is_written(self, tmp_path: Path) -> None:
        c = there(tmp_path)
        file = tmp_path / "charter.yaml"
        file.write_text(file.read_text("utf-8").replace("title: Two\n", "title: 'Two'  # as ever\n"), "utf-8")
        after(c, RankSet("two", {"title": "Two", "badge": "*"}))
        assert "title: 'Two'  # as ever\n" in file.read_text("utf-8")


class TestPlaces:
    def test_within_the_same_place_it_goes_to_the_end(self, tmp_path: Path) -> None:
        c = there(tmp_path, places=[place(key) for key in ("a", "b", "c")])
        assert [*after(c, PlaceMove("a", "site", keep=True)).charter.places] == ["site", "b", "c", "a"]
        at_the_end = Community.open(tmp_path).plan(PlaceMove("a", "site", keep=True))
        assert not at_the_end.difference
        assert [*after(Community.open(tmp_path), PlaceMove("b", "site", keep=True)).charter.places][1:] == [
            "c",
            "a",
            "b",
        ]


class TestGroups:
    def test_where_it_is_named_is_said_as_it_is_typed(self, tmp_path: Path) -> None:
        """What stands in the way of removing it can be taken out by the paths that are told, one after the other."""
        groups = [{"key": "team"}, {"key": "all", "includes": ["crew", "team"]}, {"key": "crew"}]
        gate = {"any": ["one", "team"]}
        inside = [place("desk", overrides={"team": {"allow": ["post.pin"]}}), place("stand", gate=gate)]
        c = there(tmp_path, groups=groups, places=[{"key": "hall", "kind": "section", "places": inside}])
        told = []
        while (named := self.named_in(c)) is not None:
            told.append(named)
            c = after(c, CharterRemove(named))
        assert told == [
            "places.hall.places.desk.overrides.team",
            "places.hall.places.stand.gate.any.2",
            "groups.all.includes.2",
        ]
        assert "team" not in after(c, GroupRemove("team")).charter.groups

    @staticmethod
    def named_in(c: Community) -> str | None:
        """Where the charter still says something of the group, as the refusal tells it."""
        try:
            c.plan(GroupRemove("team"))
        except AskAboveError as error:
            return str(error).partition(", in ")[2].partition(". Change")[0]
        return None


class TestMembers:
    RANKS = (rank("top"), rank("welcome", "post.write", on_joining=True))

    def test_what_comes_on_joining_comes_once(self, tmp_path: Path) -> None:
        cast = [CAST[0], member("bo", status="pending"), member("cy", status="locked", joined="2020-01-01")]
        c = there(tmp_path, *self.RANKS, members=cast)
        c = after(c, MemberStatus("bo", "active"), MemberStatus("cy", "active"))
        assert [each.member for each in c.register.assignments] == ["bo"]
        c = after(c, MemberAdd("eve", status="pending"), MemberAdd("flo"))
        assert [each.member for each in c.register.assignments] == ["bo", "flo"]

    def test_who_is_imported_as_active_has_joined_today(self, tmp_path: Path) -> None:
        text = "key,status,joined\neve,active,\nflo,pending,\ngus,active,2020-05-01\n"
        c = after(there(tmp_path), Import(read_rows("more.csv", text.encode(), COLUMNS, ())))
        today = date.today().isoformat()  # noqa: DTZ011 (the day of the test, as the charter has it)
        assert [c.member(key).joined for key in ("flo", "gus")] == ["", "2020-05-01"]
        assert c.member("eve").joined[:7] == today[:7]


def parts(before: Community, after: Community) -> list[tuple[str, str, str, str]]:
    one, two = (State(each.charter, each.register) for each in (before, after))
    return [(each.kind, each.key, each.field, each.row) for each in Difference(one, two, 0).parts]


class TestTheDifference:
    """9.1: what differs is told part by part, and how it came about is not in it."""

    def test_two_keys_at_once_are_no_rename(self) -> None:
        def at(*keys: str) -> Community:
            return Community.from_texts(texts(*RANKS, groups=[{"key": key, "title": key[-1]} for key in keys]))

        before = at("day-a", "day-b", "c")
        assert parts(before, at("eve-a", "day-b", "c")) == [("group", "eve-a", "key", "owner")]
        both = parts(before, at("eve-a", "eve-b", "c"))
        assert sorted(key for _, key, _, _ in both) == ["day-a", "day-b", "eve-a", "eve-b"]
        assert {field for _, _, field, _ in both} == {""}

    @pytest.mark.parametrize(
        ("order", "passed"),
        [
            (("two", "one", "three", "four", "five"), {"one", "two"}),
            (("one", "five", "two", "three", "four"), {"two", "three", "four", "five"}),
            (("one", "two", "three", "four", "five"), set[str]()),
        ],
    )
    def test_ranks_that_pass_each_other_have_moved(self, order: tuple[str, ...], passed: set[str]) -> None:
        before, after = (Community.from_texts(texts(*(rank(key) for key in each))) for each in (ORDER, order))
        found = parts(before, after)
        assert {key for _, key, field, _ in found if field == "position"} == passed

    def test_names_in_another_order_are_no_difference_and_what_says_nothing_is_none(self) -> None:
        """All but the ladder, places and the sets that a place is like, of which the first that speaks counts."""

        def turned(said: Any, field: str = "") -> Any:
            if isinstance(said, list):
                return [turned(each) for each in (said if field in ("ranks", "places", "like") else reversed(said))]
            if not isinstance(said, dict):
                return said
            spoken = {
                key: turned(each, key) for key, each in said.items() if each or key not in ("allow", "deny", "bar")
            }
            return {key: each for key, each in spoken.items() if each or field not in ("overrides", "exceptions")}

        for seed in range(20):
            made = generate(Random(seed))
            people = [{**m, "groups": ";".join(reversed(m.get("groups", "").split(";")))} for m in made.members]
            other = Generated(turned(made.charter), people, made.assignments)
            assert parts(made.open(), other.open()) == [], seed

    def test_a_bundle_comes_with_its_words_and_goes_with_them(self) -> None:
        def at(**bundles: list[str]) -> Community:
            return Community.from_texts(texts(*RANKS, bundles=bundles))

        assert [part[:3] for part in parts(at(), at(talk=["post.write"]))] == [("bundle", "talk", "")]
        assert [part[:3] for part in parts(at(talk=["post.write"]), at())] == [("bundle", "talk", "")]
        more = parts(at(talk=["post.write"]), at(talk=["post.write", "post.pin"]))
        assert [part[:3] for part in more] == [("bundle", "talk", "words")]

    def test_each_field_of_a_member_stands_in_its_row(self) -> None:
        before = Community.from_texts(texts(*RANKS, members=CAST))
        someone = before.member("bo")
        for field, value, row in (
            ("user_name", "bo@river.example", "identity"),
            ("external_id", "mill:7", "identity"),
            ("was", "locked", "owner"),
            ("note", "Seen", "account"),
            ("status", "locked", "account"),
        ):
            changed: dict[str, Any] = {field: value}
            other = before.after(register=before.register.with_member(someone._replace(**changed)))
            assert parts(before, other) == [("member", "bo", field, row)], field

    def test_time_is_covered_together_where_it_meets(self) -> None:
        def given(*spans: tuple[int, int]) -> Coverage:
            made = [Assignment("bo", "one", period=Period(start, end)) for start, end in spans]
            return coverage(made)

        assert given((1, 3), (5, 7)).stretches == ((1, 3), (5, 7))
        assert given((5, 7), (1, 5)).stretches == ((1, 7),)
        assert given((1, 9), (2, 3)).stretches == ((1, 9),)
        assert (given((1, 9)) - given((2, 3), (5, 20))).stretches == ((1, 2), (3, 5))
        assert given((1, 3), (5, 7)).since(4).stretches == ((5, 7),)

    def test_the_power_that_ranks_gain_and_lose_is_told_pair_by_pair(self) -> None:
        def at(*grants: str) -> Community:
            rules = {"authority": {"moderate": {"using": "member.mute"}}}
            return Community.from_texts(texts(rank("top", *grants), rank("low"), places=[], rules=rules))

        without, able = at("post.write"), at("post.write", "member.mute")
        for before, after, gains in ((without, able, True), (able, without, False)):
            told = [(each.gains, each.act, each.actor, each.target) for each in before.impact(after).powers]
            assert told == [(gains, "moderate", "top", "low")]
