"""The rules of docs/rules.md, one by one; each test names the rule it holds the package to."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

import pytest

from ask_above import (
    VISITOR,
    Answer,
    Community,
    FaultyFilesError,
    MomentError,
    QuestionError,
    Rank,
    RefusedError,
    UnknownNameError,
)
from ask_above.change import Assign, RankSet, Unassign
from conftest import Place
from small import community, held, member, place, rank


class TestCapabilities:
    """Rules 2.x and 3.x."""

    def test_giving_brings_along_what_is_implied_and_taking_does_not(self) -> None:
        """2.4, 2.5"""
        c = community(rank("editor", "post.publish"), rank("lead", "post.publish", withhold=["post.publish"]))
        assert c.grid().loc["post.write", "editor"]
        assert c.grid().loc["post.write", "lead"]
        assert not c.grid().loc["post.publish", "lead"]

    def test_what_was_taken_is_missed_in_the_end(self) -> None:
        """2.5, 5.6: publishing rests on writing, which was denied."""
        c = community(
            rank("editor", "post.publish"), places=[place("p", overrides={"editor": {"deny": ["post.write"]}})]
        )
        answer = c.may("rank:editor", "post.publish", at="p")
        assert not answer
        assert "post.publish needs post.write" in answer.reason

    def test_a_capability_does_nothing_without_what_it_needs(self) -> None:
        """5.6"""
        c = community(rank("a", "post.pin"), rank("b", "post.pin", "post.write"))
        assert not c.may("rank:a", "post.pin")
        assert c.may("rank:b", "post.pin")

    def test_a_bare_name_means_own_for_the_author_and_all_for_everybody_else(self) -> None:
        """2.3"""
        c = community(rank("w", "post.edit.own"), members=[member("ada"), member("bo")], assignments=[held("ada", "w")])
        assert c.may("ada", "post.edit", author="ada")
        assert not c.may("ada", "post.edit", author="bo")
        assert not c.may("ada", "post.edit")
        assert c.may("ada", "post.edit.own", author="bo")

    def test_patterns_and_bundles_stand_for_capabilities(self) -> None:
        """2.7"""
        c = community(
            rank("a", "post.*"), rank("b", "kit"), rank("c", "*"), bundles={"kit": ["tools"], "tools": ["member.*"]}
        )
        grid = c.grid()
        assert grid["a"].sum() == 5
        assert list(grid.index[grid["b"]]) == ["member.mute", "member.ban"]
        assert grid["c"].all()

    def test_a_rank_takes_over_what_another_carries_and_nothing_else(self) -> None:
        """3.1, 3.2, 3.3"""
        base = rank("base", "post.publish", withhold=["post.publish"], unbounded="true")
        c = community(rank("top", "post.pin", builds_on=["base"]), base)
        assert list(c.grid().index[c.grid()["top"]]) == ["post.write", "post.pin"]

    def test_withholding_trims_only_what_the_rank_itself_hands_out(self) -> None:
        """3.3"""
        c = community(
            rank("a", "post.write"),
            rank("b", "post.write", withhold=["post.write"]),
            members=[member("ada")],
            assignments=[held("ada", "a"), held("ada", "b")],
        )
        assert c.may("ada", "post.write")

    def test_nothing_stops_an_unbounded_rank_but_missing_meaning(self) -> None:
        """3.4, 5.2"""
        c = community(
            rank("chief", unbounded="true"),
            rank("team"),
            places=[place("p", gate={"all": ["team"]}, overrides={"chief": {"bar": ["post.write"]}})],
        )
        assert c.may("rank:chief", "post.write", at="p")
        assert "does not apply" in c.may("rank:chief", "voice.speak", at="p").reason


class TestHolding:
    """Rules 4.x."""

    def test_automatic_ranks_are_held_without_being_given(self) -> None:
        """4.1, 4.9, 4.10"""
        ranks = [rank("bot", held_by="bots"), rank("all", held_by="members"), rank("out", held_by="visitors")]
        c = community(*ranks, rank("any", held_by="anyone"), members=[member("ada"), member("rob", kind="bot")])
        assert set(c.who("post.write")["member"]) == set()
        held_by = {
            who: {r.key for r in _ranks(c, who)} for who in ("ada", "rob", VISITOR, "rank:bot", "rank:any", "rank:all")
        }
        assert held_by["ada"] == held_by["rank:all"] == {"all", "any"}
        assert held_by["rob"] == held_by["rank:bot"] == {"bot", "all", "any"}
        assert held_by[VISITOR] == held_by["rank:any"] == {"out", "any"}

    def test_an_assignment_counts_at_its_place_and_below(self) -> None:
        """4.2"""
        c = community(rank("w", "post.write"), members=[member("ada")], assignments=[held("ada", "w", "hall")])
        assert [bool(c.may("ada", "post.write", at=p)) for p in ("site", "hall", "desk", "yard")] == [0, 1, 1, 0]

    def test_groups_nest_and_confer_ranks(self) -> None:
        """1.5, 4.3"""
        groups = [{"key": "core"}, {"key": "out", "includes": ["core"], "confers": [{"rank": "w", "place": "hall"}]}]
        c = community(rank("w", "post.write"), groups=groups, members=[member("ada", groups="core")])
        assert c.may("ada", "post.write", at="desk")
        assert not c.may("ada", "post.write", at="yard")
        assert "in The Hall, conferred by the group out" in str(c.may("ada", "post.write", at="desk"))

    @pytest.mark.parametrize("status", ["invited", "locked", "retired"])
    def test_a_status_that_does_not_count_answers_no(self, status: str) -> None:
        """4.4, 5.1"""
        c = community(rank("w", "post.write", held_by="anyone"), members=[member("ada", status=status)])
        answer = c.may("ada", "post.write")
        assert not answer
        assert status in answer.reason

    def test_someone_pending_holds_the_entry_rank_and_groups_cannot_give(self) -> None:
        """4.4: what groups and exceptions allow is not given, what they deny and bar is taken."""
        ranks = [
            rank("w", "post.pin"),
            rank("new", "post.write", entry="true"),
            rank("all", "place.see", held_by="anyone"),
        ]
        where = place(
            "p",
            overrides={"g": {"allow": ["member.mute"], "deny": ["place.see"]}},
            exceptions={"ada": {"allow": ["member.ban"]}},
        )
        c = community(
            *ranks,
            places=[where, place("q")],
            groups=[{"key": "g"}],
            members=[member("ada", status="pending", groups="g")],
            assignments=[held("ada", "w")],
        )
        assert [cap for cap in c.charter.catalogue.keys if c.may("ada", cap, at="p")] == ["post.write"]
        assert [cap for cap in c.charter.catalogue.keys if c.may("ada", cap, at="q")] == ["place.see", "post.write"]
        assert not c.may_call("ada", "w")

    def test_what_groups_allow_to_someone_pending_is_told_and_not_given(self) -> None:
        """4.4"""
        c = community(
            rank("new", entry="true"),
            places=[place("p", overrides={"g": {"allow": ["post.write"]}})],
            groups=[{"key": "g", "title": "The Gang"}],
            members=[member("ada", status="pending", groups="g"), member("bo", groups="g")],
        )
        assert c.may("bo", "post.write", at="p")
        answer = c.may("ada", "post.write", at="p")
        assert not answer
        assert "5.4c" in [step.rule for step in answer.steps if step.code == "allowed-pending"]

    def test_the_entry_rank_is_asked_about_as_if_held_on_the_whole_site(self) -> None:
        """4.9"""
        c = community(rank("new", "post.write", entry="true"))
        assert c.where("rank:new", "post.write") == ["site", *(key for key in c.charter.places if key != "site")]

    def test_the_rank_that_a_capability_comes_from_is_named(self) -> None:
        """3.4: of those it builds on, the one that carries it."""
        c = community(rank("c", builds_on=["a", "b"]), rank("a", "member.mute"), rank("b", "post.write"))
        assert "through B" in c.may("rank:c", "post.write").reason
        assert "through A" in c.may("rank:c", "member.mute").reason

    def test_the_owner_may_do_everything_that_has_a_meaning(self) -> None:
        """4.5"""
        c = community(rank("w"), owner="ada", members=[member("ada")])
        assert c.may("ada", "rank.manage", at="desk")
        assert not c.may("ada", "voice.speak", at="desk")
        assert c.may("ada", "voice.speak", at="stage")

    def test_days_are_whole_days_of_the_charters_zone_across_a_change_of_clocks(self) -> None:
        """4.6: 2026-03-29 is 23 hours long in London; midnight after it is 23:00 UTC."""
        c = community(
            rank("w", "post.write"),
            rules={"timezone": "Europe/London"},
            members=[member("ada")],
            assignments=[held("ada", "w", since="2026-03-29", until="2026-03-29")],
        )

        def at(hour: int, minute: int, day: int = 29) -> bool:
            return bool(c.may("ada", "post.write", when=datetime(2026, 3, day, hour, minute, tzinfo=UTC)))

        assert [at(23, 59, 28), at(0, 0), at(22, 59), at(23, 0)] == [False, True, True, False]
        assert c.may("ada", "post.write", when=date(2026, 3, 29))
        assert not c.may("ada", "post.write", when=date(2026, 3, 30))

    @pytest.mark.parametrize(
        ("until", "last"),
        [
            ("2026-10-25T01:30", datetime(2026, 10, 25, 0, 29, tzinfo=UTC)),  # occurs twice: the first
            ("2026-03-29T01:30", datetime(2026, 3, 29, 1, 29, tzinfo=UTC)),  # does not occur: the offset before
            ("2026-10-25T01:30+00:00", datetime(2026, 10, 25, 1, 29, tzinfo=UTC)),
        ],
    )
    def test_a_time_is_up_to_and_not_including(self, until: str, last: datetime) -> None:
        """4.6"""
        given = [held("ada", "w", until=until)]
        c = community(
            rank("w", "post.write"), rules={"timezone": "Europe/London"}, members=[member("ada")], assignments=given
        )
        assert c.may("ada", "post.write", when=last)
        assert not c.may("ada", "post.write", when=last.replace(minute=30))

    def test_a_moment_without_a_zone_is_an_error(self) -> None:
        """4.6"""
        with pytest.raises(MomentError, match="no time zone"):
            community(rank("w")).may(VISITOR, "post.write", when=datetime(2026, 1, 1))  # noqa: DTZ001


class TestPlaces:
    """Rules 5.3 to 5.6."""

    def test_the_nearest_place_has_the_last_word(self) -> None:
        """5.4"""
        inner = place("inner", overrides={"w": {"allow": ["post.write"]}})
        outer = place("out", "section", overrides={"w": {"deny": ["post.write"]}}, places=[inner, place("beside")])
        c = community(rank("w", "post.write"), places=[outer])
        assert [bool(c.may("rank:w", "post.write", at=p)) for p in ("site", "out", "beside", "inner")] == [1, 0, 0, 1]

    def test_at_one_place_a_person_beats_a_group_beats_a_rank_beats_an_automatic_rank(self) -> None:
        """5.4a to 5.4d"""
        take, give = {"deny": ["post.write"]}, {"allow": ["post.write"]}
        layers = [("all", take), ("w", give), ("g", take)]
        for n in range(4):
            spot = place(
                "p", overrides=dict(layers[:n]) if n < 3 else dict(layers), exceptions={"ada": give} if n == 3 else {}
            )
            c = community(
                rank("all", "post.write", held_by="members"),
                rank("w"),
                groups=[{"key": "g"}],
                places=[spot],
                members=[member("ada", groups="g")],
                assignments=[held("ada", "w")],
            )
            assert bool(c.may("ada", "post.write", at="p")) is (n != 1), n

    @pytest.mark.parametrize(("how", "allowed"), [("topmost", False), ("allow", True), ("deny", False)])
    def test_disagreement_between_ranks_is_settled_as_the_rules_say(self, how: str, allowed: bool) -> None:
        """5.4"""
        words = {"top": {"deny": ["post.write"]}, "low": {"allow": ["post.write"]}}
        c = community(
            rank("top"),
            rank("low"),
            rules={"disagreement": how},
            places=[place("p", overrides=words)],
            members=[member("ada")],
            assignments=[held("ada", "top"), held("ada", "low")],
        )
        assert bool(c.may("ada", "post.write", at="p")) is allowed

    def test_own_entry_speaks_before_ranges_and_ranges_before_sets(self) -> None:
        """5.4: the range that starts nearest speaks first; sets follow in their order."""
        sets = {"one": {"a": {"deny": ["post.pin"]}}, "two": {"a": {"allow": ["post.pin", "member.ban"]}}}
        entries = {
            "a": {"allow": ["post.write"]},
            "c+": {"deny": ["post.write", "member.mute"]},
            "b+": {"allow": ["member.mute"]},
        }
        spot = place("p", overrides=entries, like=["one", "two"])
        c = community(rank("a"), rank("b"), rank("c", "post.write"), override_sets=sets, places=[spot])
        usable = c.grid(at="p")
        assert list(usable.index[usable["a"]]) == ["post.write", "member.mute", "member.ban"]
        assert not usable["c"].any()

    def test_a_bar_is_never_given_back(self) -> None:
        """5.5"""
        inner = place(
            "inner", overrides={"w": {"allow": ["post.write"]}}, exceptions={"ada": {"allow": ["post.write"]}}
        )
        c = community(
            rank("w", "post.write"),
            places=[place("out", "section", overrides={"w+": {"bar": ["post.write"]}}, places=[inner])],
            members=[member("ada")],
            assignments=[held("ada", "w")],
        )
        assert "nothing overrides a bar" in c.may("ada", "post.write", at="inner").reason

    def test_a_gate_asks_for_groups_and_ranks_held_at_its_own_place(self) -> None:
        """5.3"""
        gate = {"any": ["low+", "g"], "none": ["out"], "teaser": "true"}
        tree = [place("room", "section", gate=gate, places=[place("corner")])]
        c = community(
            rank("top", "post.write"),
            rank("low", "post.write"),
            rank("out"),
            rank("all", "post.write", held_by="members"),
            places=tree,
            groups=[{"key": "g"}],
            members=[member(k, groups="g" if k == "grp" else "") for k in ("top", "grp", "both", "none", "late")],
            assignments=[
                held("top", "top", "room"),
                held("both", "low"),
                held("both", "out"),
                held("late", "low", "corner"),
            ],
        )
        assert [bool(c.may(k, "post.write", at="corner")) for k in ("top", "grp", "both", "none", "late")] == [
            1, 1, 0, 0, 0,
        ]  # fmt: skip
        reason = c.may("none", "post.write", at="corner").reason
        assert reason.startswith(
            "The gate of room does not admit None: it requires any of Low or above or g, and none of Out"
        )

    def test_no_meaning_says_where_there_is_one(self) -> None:
        """5.6"""
        reason = community(rank("w", "*")).may("rank:w", "voice.speak", at="desk").reason
        cannot = "voice.speak does not apply to places of kind board"
        assert reason == f"{cannot}; it applies to places of kind stage: stage."

    def test_everything_below_the_site_rests_on_seeing(self) -> None:
        """5.6"""
        c = community(rank("w", "post.write"), rank("s", "post.write", "place.see"), rules={"seeing": "place.see"})
        assert [bool(c.may(f"rank:{r}", "post.write", at=p)) for r in "ws" for p in ("site", "desk")] == [1, 0, 1, 1]


AUTHORITY = {"moderate": {"using": ["member.*"]}}
POWERFUL = ("member.*", "rank.assign", "rank.manage")


class TestActs:
    """Rules 6.x."""

    def test_one_acts_only_on_those_below(self) -> None:
        """6.3, 6.7, 6.13"""
        c = community(rank("top", *POWERFUL), rank("mid", *POWERFUL), rank("low"), rules={"authority": AUTHORITY})
        assert c.powers("moderate").values.tolist() == [[0, 1, 1], [0, 0, 1], [0, 0, 0]]
        assert c.powers("manage").values.tolist() == [[0, 1, 1], [0, 0, 1], [0, 0, 0]]
        assert "Top does not stand below Mid" in c.may_moderate("rank:mid", "rank:top").reason

    def test_every_reason_against_is_told(self) -> None:
        """6.7"""
        lists = {"only": ["low"]}
        c = community(rank("top"), rank("mid", moderates=lists), rank("low"), rules={"authority": AUTHORITY})
        reason = c.may_moderate("rank:mid", "rank:top").reason
        for part in ("may not use member.mute or member.ban", "Top does not stand below Mid", "Mid may not act on Top"):
            assert part in reason

    def test_a_target_stands_by_ranks_on_the_way_and_below_whatever_their_status(self) -> None:
        """6.5"""
        c = community(
            rank("top"),
            rank("mod", *POWERFUL),
            rules={"authority": AUTHORITY},
            members=[member("m"), member("t", status="locked"), member("u")],
            assignments=[held("m", "mod"), held("t", "top", "desk"), held("u", "top", "desk", until="2020-01-01")],
        )
        assert [bool(c.may_moderate("m", "t", at=p)) for p in ("site", "hall", "desk", "yard")] == [0, 0, 0, 1]
        assert c.may_moderate("m", "u")

    def test_nobody_acts_on_the_owner_and_nobody_moderates_themselves(self) -> None:
        """6.7, 6.12"""
        rules = {"authority": {"moderate": {"using": "member.mute", "over": "anyone"}}}
        people = [member("own"), member("mod")]
        c = community(
            rank("mod", "member.mute"), rules=rules, owner="own", members=people, assignments=[held("mod", "mod")]
        )
        assert "only the owner may act on the owner" in c.may_moderate("mod", "own").reason
        assert not c.may_moderate("own", "own")
        assert not c.may_moderate("mod", "mod")
        assert c.may_moderate("own", "mod")

    def test_lists_are_asked_of_the_ranks_that_carry_the_capability(self) -> None:
        """6.4"""
        ranks = [
            rank("a", "member.mute", moderates={"except": ["x"]}),
            rank("b", moderates={"only": ["y"]}),
            rank("x"),
            rank("y"),
        ]
        c = community(
            *ranks,
            rules={"authority": AUTHORITY},
            places=[place("p", exceptions={"given": {"allow": ["member.mute"]}})],
            members=[member("carries"), member("given")],
            assignments=[held("carries", "a"), held("carries", "b"), held("given", "b")],
        )
        assert [bool(c.may_moderate(m, f"rank:{t}", at="p")) for m in ("carries", "given") for t in "xy"] == [
            0, 1, 0, 1,
        ]  # fmt: skip

    def test_lists_speak_of_those_without_any_rank_too(self) -> None:
        """6.4: whoever holds none is on no list of those who may be acted on, and on every one of those who may not."""
        able = {"authority": {"moderate": {"using": "member.mute"}}}
        for how, shifts in (({"except": ["low"]}, True), ({"only": ["low"]}, False)):
            ranks = rank("top", moderates=how), rank("low")
            people = {"members": [member("ada"), member("bo")], "assignments": [held("ada", "top")]}
            before = community(*ranks, **people, rules=able)
            after = community(rank("top", "member.mute", moderates=how), rank("low"), **people, rules=able)
            assert after.may_moderate("ada", "bo").allowed is shifts
            reached = {target for each in before.impact(after).acts for target in each.targets}
            assert ("none" in reached) is shifts
            assert ("low" in reached) is not shifts

    def test_using_is_one_of_the_acts_own(self) -> None:
        """6.2"""
        c = community(rank("mod", "member.mute"), rank("low"), rules={"authority": AUTHORITY})
        assert c.may_moderate("rank:mod", "rank:low", using="member.mute")
        assert not c.may_moderate("rank:mod", "rank:low", using="member.ban")
        with pytest.raises(QuestionError, match="none of the capabilities that moderating takes"):
            c.may_moderate("rank:mod", "rank:low", using="post.write")

    def test_one_hands_on_only_what_one_holds_unless_any_is_wanted(self) -> None:
        """6.6, 6.8: also where gates are left aside, and unbounded only from unbounded."""
        gated = place("p", gate={"all": ["g"]}, overrides={"low": {"allow": ["member.ban"]}})
        chief = rank("chief", unbounded="true")
        for hand_on, expected in (("held", [0, 0, 1]), ("any", [1, 0, 1])):
            c = community(
                rank("giver", "rank.assign", "post.write"),
                rank("low", "post.write"),
                rank("plain", "post.write"),
                chief,
                groups=[{"key": "g"}],
                places=[gated],
                rules={"authority": {"assign": {"hand-on": hand_on}}},
            )
            expected[1] = int(hand_on == "any")
            assert [bool(c.may_assign("rank:giver", r)) for r in ("low", "chief", "plain")] == expected

    def test_the_conditions_of_a_rank_bind_the_owner_too(self) -> None:
        """6.8"""
        ranks = [
            rank("few", limit="1"),
            rank("after", after=["base"]),
            rank("apart", apart_from=["base"]),
            rank("kept", kept_by="a machine"),
            rank("base"),
            rank("auto", held_by="members"),
        ]
        c = community(
            *ranks,
            owner="own",
            members=[member("own"), member("ada"), member("bo"), member("gone", status="retired"), member("soon")],
            assignments=[
                held("ada", "base"),
                held("bo", "few"),
                held("gone", "few"),
                held("soon", "base", since="2999-01-01"),
            ],
        )
        given = {
            (r, to): bool(c.may_assign("own", r, to=to))
            for r in ("few", "after", "apart", "kept", "auto")
            for to in ("ada", "bo", "soon")
        }
        assert [key for key, yes in given.items() if yes] == [("few", "bo"), ("after", "ada"), ("apart", "bo")]
        assert "At most 1 member may have Few; with Ada it would be 2" in c.may_assign("own", "few", to="ada").reason
        assert not c.may_assign("own", "base", to="gone")

    def test_an_open_rank_may_be_joined_and_left(self) -> None:
        """4.7, 6.8, 6.9"""
        spot = place("p", overrides={"quiet": {"deny": ["post.write"]}})
        c = community(
            rank("club", "rank.manage", open="true"),
            rank("quiet", open="true"),
            rank("all", "post.write", held_by="members"),
            places=[spot],
            members=[member("ada")],
            assignments=[held("ada", "quiet")],
        )
        assert c.may_assign("ada", "club", to="ada")
        assert not c.may_assign("ada", "club", to="ada", at="p")
        assert not c.may_unassign("ada", "club", of="ada")
        assert "would gain post.write" in c.may_unassign("ada", "quiet", of="ada").reason

    def test_taking_needs_an_assignment_at_exactly_that_place(self) -> None:
        """6.9"""
        c = community(
            rank("chief", "rank.assign"),
            rank("low"),
            members=[member("chief"), member("ada")],
            assignments=[held("chief", "chief"), held("ada", "low", "hall")],
        )
        assert [bool(c.may_unassign("chief", "low", of="ada", at=p)) for p in ("site", "hall", "desk")] == [0, 1, 0]

    def test_self_decides_about_giving_oneself_ranks(self) -> None:
        """6.8"""
        for oneself in ("false", "true"):
            c = community(
                rank("chief", "rank.assign"),
                rank("low"),
                rules={"authority": {"assign": {"self": oneself}}},
                members=[member("ada")],
                assignments=[held("ada", "chief")],
            )
            assert bool(c.may_assign("ada", "low", to="ada")) is (oneself == "true")

    def test_calling_is_open_unless_closed(self) -> None:
        """6.11"""
        ranks = [rank("a", "rank.call"), rank("b"), rank("shut", call="closed"), rank("all", held_by="members")]
        c = community(*ranks)
        called = {(who, r): bool(c.may_call(f"rank:{who}", r)) for who in "ab" for r in ("b", "shut", "all")}
        assert [key for key, yes in called.items() if not yes] == [("b", "shut"), ("b", "all")]
        assert not c.may_call(VISITOR, "b")

    def test_without_a_capability_the_act_is_the_owners_alone(self) -> None:
        """6.2: the catalogue lacks member.moderate."""
        c = community(rank("a", "*"), rank("b"))
        assert "Owner only" in c.may_moderate("rank:a", "rank:b").reason

    def test_a_capability_that_moderates_says_on_whom(self) -> None:
        """6.3"""
        c = community(rank("mod", "member.mute"), rank("low"), rules={"authority": AUTHORITY})
        assert c.may("rank:mod", "member.mute", at="desk").notes == ("This reaches only those below Mod in The Desk.",)


class TestWords:
    """What a reason and a step say, to the word."""

    def test_what_it_needs_is_named_where_there_is_such(self) -> None:
        c = community(rank("a", "post.pin", "post.write"))
        said = [step.text for step in c.may("rank:a", "post.pin").steps if step.code == "usable"]
        assert "and all that it needs (post.write)" in said[0]
        alone = [step.text for step in c.may("rank:a", "post.write").steps if step.code == "usable"]
        assert "all that it needs" not in alone[0]

    def test_of_many_the_first_are_named_and_the_rest_counted(self) -> None:
        names = ["post.write", "post.pin", "post.publish", "member.mute", "member.ban"]
        ranks = (rank("lead", "rank.assign"), rank("low", *names))
        said = c_reason(community(*ranks).may_assign("rank:lead", "low"))
        assert "post.write, post.publish, post.pin and 2 more" in said
        fewer = community(ranks[0], rank("low", *names[:4])).may_assign("rank:lead", "low")
        assert "more" not in c_reason(fewer)

    def test_the_word_that_decided_is_the_nearest_one_that_gave_it(self) -> None:
        desk = place("desk", overrides={"a": {"allow": ["post.write"]}})
        c = community(rank("a"), places=[place("hall", places=[desk], overrides={"a": {"deny": ["post.write"]}})])
        assert c.may("rank:a", "post.write", at="desk").reason.startswith("The place desk allows post.write to A")
        assert c.may("rank:a", "post.write", at="hall").reason.startswith("The place hall denies post.write to A")


def c_reason(answer: Answer) -> str:
    return str(answer.reason)


def test_who_cannot_act_is_told_why() -> None:
    """6.1"""
    people = [member("ada", status="locked"), member("bo")]
    c = community(rank("top", "*"), members=people, assignments=[held("ada", "top")])
    assert "visitor" in c.may_moderate(VISITOR, "bo").reason
    assert "locked" in c.may_moderate("ada", "bo").reason
    assert "visitor" not in c.may_moderate("ada", "bo").reason


class TestLooksAndPerks:
    """Rules 7.x."""

    PERKS = {k: {"settle": k} for k in ("any", "all", "most", "least", "total", "topmost")} | {
        "none": {"settle": "most", "default": "7"},
        "nothing": {"settle": "topmost"},
    }

    def make(self) -> Community:
        shared = {"most": "3", "least": "3", "total": "0.1", "topmost": "silver", "any": "no", "all": "yes"}
        top = rank(
            "top", color="#111111", perks={**shared, "most": "9", "topmost": "gold", "total": "0.2"}, builds_on=["low"]
        )
        low = rank("low", badge="*", prefix="Dr", heading="true", color="#222222", perks=shared | {"any": "yes"})
        given = [held("ada", "top"), held("ada", "low"), held("bo", "top", "hall")]
        return community(top, low, perks=self.PERKS, members=[member("ada"), member("bo")], assignments=given)

    def test_each_look_comes_from_the_highest_rank_that_has_it(self) -> None:
        """7.1, 7.2"""
        looks = self.make().looks("ada")
        assert (looks.color, looks.badge, looks.prefix, looks.heading) == ("#111111", "*", "Dr", "low")
        assert looks.sources == {"color": "top", "badge": "low", "prefix": "low", "heading": "low"}
        assert self.make().looks("bo").color is None

    def test_perks_are_settled_as_they_say(self) -> None:
        """7.3"""
        found = self.make().perks("ada")
        values = {key: found[key].value for key in found}
        assert values == {
            "any": True, "all": True, "most": 9, "least": 3, "total": 0.3, "topmost": "gold", "none": 7,
            "nothing": None,
        }  # fmt: skip
        assert found["most"].sources == ("top",)
        assert found["none"].sources == ()
        assert found["topmost"].sources == ("top",)
        assert {key: each.value for key, each in self.make().perks("bo").items()} == {
            "any": False, "all": False, "most": 0, "least": 0, "total": 0, "topmost": None, "none": 7, "nothing": None,
        }  # fmt: skip


def test_unknown_names_offer_the_nearest() -> None:
    """1.4: never a silent no."""
    c = community(rank("surveyor"), members=[member("petra")])
    for who, what, where, author, near in (
        ("petre", "post.write", "site", None, "petra"),
        ("rank:surveyer", "post.write", "site", None, "surveyor"),
        ("petra", "post.wirte", "site", None, "post.write"),
        ("petra", "post.write", "yart", None, "yard"),
        ("petra", "post.write", "site", "petta", "petra"),
    ):
        with pytest.raises(UnknownNameError, match=f"Nearest: .*{near}"):
            c.may(who, what, at=where, author=author)


def _ranks(c: Community, who: str) -> list[Rank]:
    """Who holds what, read off the explanation."""
    titles = {r.title: r for r in c.charter.ranks.values()}
    return [titles[str(step.words["rank"])] for step in c.may(who, "post.write").steps if step.rule == "4.1"]


def test_the_list_of_a_rank_counts_where_it_is_held_and_nowhere_above() -> None:
    ranks = (
        rank("warden", "rank.assign", "post.write", assigns={"only": ["helper"]}),
        rank("helper", "post.write"),
        rank("scribe", "post.write"),
        rank("everyone", "place.see", held_by="members"),
    )
    rules = {"authority": {"assign": {"using": "rank.assign", "over": "below"}}}
    people = [member("lea"), member("tom")]
    here = community(*ranks, rules=rules, members=people, assignments=[held("lea", "warden", "hall")])
    for where in ("hall", "desk"):
        assert here.may_assign("lea", "helper", at=where)
        answer = here.may_assign("lea", "scribe", at=where)
        assert not answer
        assert any(step.rule == "6.4" for step in answer.steps)
    assert not here.may_assign("lea", "helper", at="yard")


def test_what_a_bundle_brings_along_is_told_from_what_stands_in_it() -> None:
    people = {"members": [member("tom")], "assignments": [held("tom", "helper")]}
    here = community(rank("helper", "pack"), bundles={"pack": ["post.publish"]}, **people)
    assert ", by the bundle pack" in str(here.may("tom", "post.publish", at="yard"))
    assert ", implied by the bundle pack" in str(here.may("tom", "post.write", at="yard"))


class TestPaused:
    """4.3: a paused rank is held by nobody, whatever is recorded."""

    def made(self, **fields: Any) -> Community:
        return community(
            {**rank("crew", "post.write", "rank.assign"), **fields},
            rank("mate", "post.pin", after=["crew"]),
            rank("everyone", "place.see", held_by="members"),
            members=[member("ada"), member("bo"), member("cy", groups="club")],
            assignments=[held("ada", "crew"), held("bo", "mate")],
            groups=[{"key": "club", "confers": ["crew"]}],
            places=[place("yard", overrides={"crew": {"allow": ["post.publish"]}}, gate={"any": ["crew", "mate"]})],
        )

    def test_its_holders_have_nothing_by_it_nor_does_whoever_is_in_its_group(self) -> None:
        for paused, yes in (("true", False), ("false", True)):
            c = self.made(paused=paused)
            for who in ("ada", "cy", "rank:crew"):
                assert bool(c.may(who, "post.write")) is yes, who
                assert bool(c.may(who, "post.publish", at="yard")) is yes, who
                assert bool(c.may(who, "rank.assign")) is yes, who
            assert c.may("ada", "place.see")
            assert [each.key for each in c.register.members.values() if c.may(each.key, "place.see", at="yard")] == (
                ["ada", "bo", "cy"] if yes else ["bo"]
            )

    def test_what_is_recorded_counts_for_conditions_and_it_is_given_to_nobody(self) -> None:
        c = self.made(paused="true", open="true")
        assert c.decider.people.ask("ada", c.names.moment()).recorded
        codes = [step.code for step in c.may_assign("ada", "mate", to="ada").steps]
        assert "after" not in codes  # the paused rank is recorded for her
        assert "after" in [step.code for step in c.may_assign("ada", "mate", to="bo").steps]
        assert not c.may_assign("bo", "crew", to="bo")
        assert "paused" in [step.code for step in c.may_assign("bo", "crew", to="bo").steps]

    def test_it_is_set_and_lifted_by_command_with_its_effect(self, brook: Place) -> None:
        c = brook.open()
        plan = c.plan(RankSet("host", {"paused": "true"}), why="A quiet week")
        assert ("member.mute", False) in {(key, s.gains) for s in plan.effect.shifts for key in s.capabilities}
        plan.apply(force=True)
        now = brook.open()
        assert not now.may("bram", "member.mute")
        assert [given.rank for given in now.register.of("bram") if given.rank == "host"] == ["host"]
        with pytest.raises(RefusedError, match="Board host is paused"):
            now.plan(Assign("tove", "host")).apply()
        now.plan(Unassign("bram", "host")).apply()
        assert "nobody while the rank is paused" in brook.open().describe("host").text
        brook.open().plan(RankSet("host", {"paused": None}), Assign("tove", "host")).apply()
        assert brook.open().may("tove", "member.mute")

    @pytest.mark.parametrize("other", [{"held-by": "members"}, {"entry": "true"}])
    def test_what_is_held_without_being_given_cannot_be_paused(self, other: dict[str, str]) -> None:
        with pytest.raises(FaultyFilesError) as found:
            community({**rank("crew", "post.write"), "paused": "true", **other})
        assert "automatic-paused" in [fault.code for fault in found.value.faults]
