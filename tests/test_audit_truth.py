"""What an audit concludes, held to a second reading: brute force over the rules read plainly, on random communities."""

from __future__ import annotations

import copy
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any
from zoneinfo import ZoneInfo

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import small
from ask_above import Community, QuestionError
from ask_above.ask.audit.log import DONE, REFUSED
from ask_above.charter.changes import withholding
from ask_above.charter.moments import as_instant
from ask_above.charter.rules import ACT_WORDS
from ask_above.decide.compiled import CompiledCharter
from commands import run
from generated import Generated, generate
from plain_rules import Person, Plain, yes
from seeds import seeds


def made(seed: int) -> Generated:
    """Return a community in which somebody is a member."""
    rng = Random(seed)
    while not (found := generate(rng)).members:
        pass
    return found


def some_log(rng: Random, c: Community, count: int = 150, *, days: int = 400, acts: bool = False) -> pd.DataFrame:
    """Return what some members did, often again, in the time before the community's now and somewhat after."""
    names, places, who = c.charter.catalogue.keys, [*c.charter.places], [*c.register.members]
    now = datetime(2026, 11, 25, 12, tzinfo=UTC)
    rows = []
    for n in range(count):
        when = (now - timedelta(hours=rng.randint(-24 * 5, 24 * days), seconds=n)).isoformat()
        deed = when, rng.choice(who), rng.choice(names), rng.choice(places), rng.choice(["", *who]), "", "", ""
        if acts and rng.random() < 0.3:
            act, rank, other = rng.choice(ACT_WORDS), rng.choice([*c.charter.ranks]), rng.choice(who)
            target, to, of = {"moderate": (other, "", ""), "assign": (rank, other, "")}.get(act, (rank, "", other))
            deed = when, rng.choice(who), act, rng.choice(places), "", target, to, of
        rows.append(deed)
    return pd.DataFrame(rows, columns=["when", "member", "action", "place", "author", "target", "to", "of"])


def what_it_says(audit: Any) -> set[tuple[Any, ...]]:
    return {(e.deed, e.times, e.first, e.last, e.allowed, e.now, e.unknown, e.uses) for e in audit.judged}


# -- one description of a log, whatever its form


class TestOneDescription:
    @pytest.mark.parametrize("seed", seeds(4))
    @pytest.mark.slow
    def test_each_form_and_each_partition_says_the_same(self, tmp_path: Path, seed: int) -> None:
        rng, c = Random(seed), made(seed).open()
        frame = some_log(rng, c, acts=True)
        frame["decision"] = [rng.choice(["true", "false", ""]) for _ in range(len(frame))]
        expected = what_it_says(c.audit(frame))
        frame.to_csv(tmp_path / "a.csv", index=False)
        frame.to_csv(tmp_path / "a.csv.gz", index=False)
        (tmp_path / "a.jsonl").write_text("\n".join(json.dumps(row) for row in frame.to_dict("records")))
        frame.to_parquet(tmp_path / "a.parquet")
        frame.astype(dict.fromkeys(["member", "place", "author"], "category")).to_parquet(tmp_path / "b.parquet")
        typed = frame.assign(
            when=pd.to_datetime(frame["when"], format="ISO8601", utc=True),
            decision=frame["decision"].map({"true": True, "false": False}).astype("boolean"),
        )
        typed.to_parquet(tmp_path / "c.parquet", row_group_size=37)
        for by in (["place"], ["author"], ["member", "place"], ["decision", "action"]):
            folder = tmp_path / "-".join(by)
            pq.write_to_dataset(pa.Table.from_pandas(frame, preserve_index=False), folder, partition_cols=by)
        ways = [each for each in tmp_path.iterdir() if each != tmp_path]
        assert len(ways) == 10
        for way in ways:
            assert what_it_says(c.audit(way)) == expected, way.name

    def test_many_different_things_in_many_columns_are_never_mixed_up(self, tmp_path: Path) -> None:
        c, rng = Community.demo(), Random(1)
        columns = ["member", "action", "place", "author", "target", "to", "of", "using"]
        frame = pd.DataFrame({name: [f"{name}-{rng.randrange(10**6)}" for _ in range(4000)] for name in columns})
        frame["when"] = "2026-05-01T12:00:00Z"
        twice = pd.concat([frame, frame], ignore_index=True)
        twice.to_parquet(tmp_path / "wide.parquet")
        found = {each.deed: each.times for each in c.audit(tmp_path / "wide.parquet").judged}
        assert found == dict.fromkeys((row for row in frame[columns].itertuples(index=False, name=None)), 2)

    def test_a_member_is_the_same_by_every_name_and_periods_are_theirs(self) -> None:
        c = Community.demo()
        member = c.register.members["mira"]
        spelled = ["mira", "@mira", "MIRA", member.name, member.name.upper(), f" {member.name} "]
        place = c.charter.places["river-talk"]
        rows = [
            (when, name, "thread.close", where)
            for name in spelled
            for where in (place.key, place.title)
            for when in ("2026-10-01T12:00:00", "2026-10-02T12:00:00")
        ]
        audit = c.audit(pd.DataFrame(rows, columns=["when", "member", "action", "place"]))
        assert [(e.deed.member, e.deed.place, e.times, e.allowed) for e in audit.judged] == [
            ("mira", "river-talk", 2 * len(spelled), True),
            ("mira", "river-talk", 2 * len(spelled), False),
        ]
        first_name = c.audit(
            pd.DataFrame([("2026-05-01T12:00:00Z", "Mira", "place.see")], columns=["when", "who", "did"])
        )
        assert [e.deed.member for e in first_name.judged] == ["mira"]  # the key, in another case
        for word in (member.name.split()[1], "miraswale"):
            audit = c.audit(pd.DataFrame([("2026-05-01", word, "place.see")], columns=["when", "who", "did"]))
            assert [(e.what, e.name) for e in audit.unknown] == [("member", word)]

    def test_a_name_of_two_is_told_and_stands_for_neither(self) -> None:
        c = Community.from_texts(
            {
                "charter.yaml": "charter: 1\nkey: mill\nowner: ada\ncapabilities: {Work: {log.add: Add}}\n"
                "ranks: [{key: member, title: Member, held-by: members, grants: [log.add]}]\n",
                "members.csv": "key,name\nada,Ada Moor\nbo,Kit Fell\ncy,Kit Fell\n",
                "assignments.csv": "member,rank\n",
            }
        )
        audit = c.audit(pd.DataFrame([("2026-05-01", "Kit Fell", "log.add")], columns=["when", "who", "did"]))
        assert [(e.what, e.name, e.times) for e in audit.unknown] == [("member", "Kit Fell", 1)]

    @pytest.mark.parametrize("zone", ["Europe/London", "Europe/Dublin", "America/St_Johns", "Asia/Kolkata", "UTC"])
    @pytest.mark.slow
    def test_moments_are_read_as_everywhere_else(self, zone: str) -> None:
        """A time that occurs twice is the first, one that does not occur has the offset of before (rule 4.6)."""
        where = ZoneInfo(zone)
        local = [
            *("2026-03-29T01:30:00", "2026-10-25T01:30:00", "2026-03-29 02:00:00", "2026-03-08T02:30:00"),
            *("2026-11-01T01:30:00", "2026-07-01", "2026-12-01", "2026-07-01T10:00:00.123456", "2026-07-01T10:00"),
        ]
        offset = [
            *("2026-07-01 10:00:00+00", "2026-07-01 10:00:00-03", "2026-07-01T10:00:00+0530", "2026-07-01T10:00:00Z"),
            *("2026-07-01T10:00:00.5+05:30", "20260701T100000Z", "2026-07-01 10:00:00.000001+01"),
        ]
        c = Community.from_texts(
            {
                "charter.yaml": f"charter: 1\nkey: mill\nowner: ada\ncapabilities: {{Work: {{log.add: Add}}}}\n"
                f"ranks: [{{key: member, title: Member, held-by: members}}]\nrules: {{timezone: {zone}}}\n",
                "members.csv": "key\nada\n",
                "assignments.csv": "member,rank\n",
            }
        )
        for text in [*local, *offset]:
            frame = pd.DataFrame([(text, "ada", "log.add")], columns=["when", "member", "action"])
            read = datetime.fromisoformat(text)
            forms = [frame]
            if text in local:
                forms.append(frame.assign(when=pd.to_datetime(frame["when"], format="ISO8601")))
            for form in forms:
                assert c.audit(form).judged[0].first == as_instant(read, where), (zone, text)

    @pytest.mark.slow
    def test_a_decision_is_one_of_its_words_and_another_is_a_fault_with_its_row(self, tmp_path: Path) -> None:
        c = Community.demo()
        row = ("2026-05-01T12:00:00Z", "dara", "photo.upload", "photo-wall")
        columns = ["when", "member", "action", "place", "decision"]
        for words, refused in (
            (DONE, 0),
            (REFUSED, 1),
            (("", None, float("nan")), 0),
            ((0, 0.0, False), 1),
            ((1, True), 0),
        ):
            for word in words:
                forms = {word, word.upper(), f"{word} ", word.title()} if isinstance(word, str) else {word}
                for each in forms:
                    audit = c.audit(pd.DataFrame([(*row, each)], columns=columns))
                    assert (audit.rows, audit.refused) == (1 - refused, refused), each
        gaps = c.audit(pd.DataFrame([(*row, 0), (*row, None), (*row, 1)], columns=columns))
        assert (gaps.rows, gaps.refused) == (2, 1)
        frame = pd.DataFrame([(*row, "no"), (*row, "maybe")], columns=columns)
        frame["place"] = ["photo-wall", "photo\nwall"]
        frame.to_csv(tmp_path / "a.csv", index=False)
        frame.to_parquet(tmp_path / "a.parquet")
        (tmp_path / "a.jsonl").write_text("\n\n".join(json.dumps(each) for each in frame.to_dict("records")))
        for name, where in (("a.csv", "line 3"), ("a.parquet", "row 2"), ("a.jsonl", "line 3")):
            with pytest.raises(QuestionError, match=f"{name} {where}: 'maybe' is no decision"):
                c.audit(tmp_path / name)

    def test_numbers_in_json_stay_as_they_are_written(self, tmp_path: Path) -> None:
        rows = [
            {"when": "2026-05-01", "who": 12345678901234567890, "did": "place.see"},
            {"when": "2026-05-01", "did": "place.see"},
        ]
        (tmp_path / "a.jsonl").write_text("\n".join(map(json.dumps, rows)))
        audit = Community.demo().audit(tmp_path / "a.jsonl")
        assert [(e.what, e.name) for e in audit.unknown] == [("member", "12345678901234567890")]
        assert {e.deed.member for e in audit.judged} == {"12345678901234567890", ""}


# -- used, unused, least


class Alone(Plain):
    """The rules with one thing alone that gives: a rank's grant, a word at a place, or a member's exception."""

    def __init__(self, made: Generated, *, rank: str = "", word: tuple[str, str] = ("", ""), own: str = "") -> None:
        super().__init__(copy.deepcopy(made.charter), made.members, made.assignments)
        self.only_rank, self.only_word, self.whole = rank, word, _plain(made)
        for place, said in self.place.items():
            for entry in said.get("exceptions", {}).values():
                if place != own:
                    entry.pop("allow", None)

    def carried(self, r: str) -> set[str]:
        return self.whole.carried(r) if r == self.only_rank else set()

    def word(self, place: str, holder: str, cap: str) -> str | None:
        found = super().word(place, holder, cap)
        return None if found == "allow" and (place, holder) != self.only_word else found

    def unbounded(self, p: Person, place: str) -> bool:
        return self.only_rank in self.ranks_at(p, place) and yes(self.rank[self.only_rank].get("unbounded", "no"))


def _plain(made: Generated) -> Plain:
    return Plain(made.charter, made.members, made.assignments)


class Sources:
    """Who and what suffices, by trying each thing alone."""

    def __init__(self, made: Generated) -> None:
        self.plain = _plain(made)
        self.alone: dict[str, Plain] = {rank: Alone(made, rank=rank) for rank in self.plain.ranks}
        for place in self.plain.place:
            self.alone[f"exception in {place}"] = Alone(made, own=place)
            for rank in self.plain.ranks:
                self.alone[f"override {rank} in {place}"] = Alone(made, word=(place, rank))
            for group in self.plain.groups:
                self.alone[f"group {group} in {place}"] = Alone(made, word=(place, group))

    def of(self, p: Person, cap: str, place: str) -> set[tuple[str, str]]:
        rests = self.plain.rests(cap, place)
        found = {(label, each) for label, alone in self.alone.items() for each in rests & alone.held(p, place)}
        return found | ({("owner", cap)} if self.plain.owner(p) else set())


@pytest.mark.parametrize("seed", seeds(20))
def test_what_was_used_through_what_is_what_suffices_alone(seed: int) -> None:
    rng, community = Random(seed), made(seed)
    c, sources = community.open(), Sources(community)
    log = some_log(rng, c, 60)
    for judged in c.audit(log).judged:
        deed, plain = judged.deed, sources.plain
        t = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=judged.first)
        p = plain.person(deed.member, t)
        assert bool(judged.allowed) == plain.may(p, deed.action, deed.place)
        expected = sources.of(p, deed.action, deed.place) if judged.allowed else set()
        assert {(use.through, use.capability) for use in judged.uses} == expected, (seed, deed)


@pytest.mark.parametrize("seed", seeds(20))
def test_allowed_until_is_the_edge_at_which_it_turned(seed: int) -> None:
    rng, community = Random(seed), made(seed)
    c, plain = community.open(), _plain(community)
    edges = sorted(
        {edge for each in c.register.assignments for edge in (each.period.start, each.period.end) if edge is not None}
    )
    for each in c.audit(some_log(rng, c, 200, days=60)).not_allowed:
        before = [edge for edge in edges if edge <= each.first]

        def allowed(at: int, deed: Any = each.deed) -> bool:
            t = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at)
            return plain.may(plain.person(deed.member, t), deed.action, deed.place)

        turned = [edge for edge in before if allowed(edge - 1) and not allowed(edge)]
        assert each.until == (turned[-1] if turned else None), (seed, each)
        for given, edge in ((each.ended, "end"), (each.began, "start")):
            assert given is None or (given.member, getattr(given.period, edge)) == (each.deed.member, each.until)
        assert (each.until is None) == (each.ended is None and each.began is None)


@pytest.mark.parametrize("seed", seeds(20))
def test_what_is_told_to_be_unused_is_held_used_by_nobody_and_can_be_taken(seed: int) -> None:
    rng, community = Random(seed), made(seed)
    c, sources = community.open(), Sources(community)
    audit = c.audit(some_log(rng, c, 120, acts=True))
    plain, span = sources.plain, audit.span
    assert span
    edges = {edge for a in c.register.assignments for edge in (a.period.start, a.period.end) if edge is not None}
    moments = [span[0], *(edge for edge in sorted(edges) if span[0] <= edge <= span[1])]
    used = {use for each in audit.judged for use in each.uses}
    done = {e.deed for e in audit.judged if e.allowed and e.now}
    for each in audit.unused:
        assert (each.rank, each.capability) not in used
        holders = set()
        for at in moments:
            t = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at)
            for key in plain.members:
                p = plain.person(key, t)
                if p.status == "active" and any(r == each.rank for r, _ in p.given):
                    holders.add(key)
        assert each.holders == len(holders) > 0
        after = _without(community, [(each.rank, [each.capability])])
        assert all(_may(after, deed) for deed in done), (seed, each)


def _without(made: Generated, taken: list[tuple[str, list[str]]]) -> Community:
    c = made.open()
    charter = c.charter
    for rank, names in taken:
        charter = withholding(charter, rank, names)
    return Community(charter, c.register)


def _may(c: Community, deed: Any) -> bool:
    match deed.action:
        case "moderate":
            return bool(c.may_moderate(deed.member, deed.target, at=deed.place))
        case "assign":
            return bool(c.may_assign(deed.member, deed.target, to=deed.to, at=deed.place))
        case "unassign":
            return bool(c.may_unassign(deed.member, deed.target, of=deed.of, at=deed.place))
        case "manage":
            return bool(c.may_manage(deed.member, deed.target))
        case "call":
            return bool(c.may_call(deed.member, deed.target, at=deed.place))
        case capability:
            return bool(c.may(deed.member, capability, at=deed.place, author=deed.author or None))


@pytest.mark.parametrize("seed", seeds(20))
def test_least_leaves_all_that_was_done_and_nothing_more_can_be_taken(seed: int) -> None:
    rng, community = Random(seed), made(seed)
    c = community.open()
    audit = c.audit(some_log(rng, c, 80, acts=True))
    done = {e.deed for e in audit.judged if e.now}
    found = audit.least()
    taken = [(each.rank, list(each.capabilities)) for each in found]
    after = _without(community, taken)
    assert all(_may(after, deed) for deed in done)
    compiled = CompiledCharter(after.charter)
    for rank in compiled.ranks:
        if rank.unbounded or rank.kept_by:
            continue
        already = dict(taken).get(rank.key, [])
        for key in compiled.catalogue.names(compiled.carried[rank.position]):
            more = [each for each in taken if each[0] != rank.key] + [(rank.key, [*already, key])]
            assert not all(_may(_without(community, more), deed) for deed in done), (seed, rank.key, key)


def test_what_a_bundle_of_others_brings_is_given_back_and_no_more(tmp_path: Path) -> None:
    """A grant that brings what was used by what it implies stays; the rest goes."""
    (tmp_path / "charter.yaml").write_text(
        """charter: 1
key: mill
owner: ada
capabilities:
  Work:
    log.see: See the log
    log.mend: {about: Mend the log, implies: [log.see]}
    log.wipe: {about: Wipe the log, risk: high}
ranks:
  - {key: keeper, title: Keeper, grants: [log.mend, log.wipe]}
  - {key: member, title: Member, held-by: members}
"""
    )
    (tmp_path / "members.csv").write_text("key\nada\nbo\n")
    (tmp_path / "assignments.csv").write_text("member,rank\nbo,keeper\n")
    (tmp_path / "log.csv").write_text("when,member,action\n2026-05-01,bo,log.see\n")
    c = Community.open(tmp_path)
    found = c.audit(tmp_path / "log.csv").least()
    assert [(each.rank, each.capabilities) for each in found] == [("keeper", ("log.wipe",))]
    said = run("audit", "log.csv", "--least", cwd=tmp_path)
    assert "ask-above rank withhold keeper log.wipe" in said.stdout


def test_what_is_of_high_risk_is_kept_for_the_day_however_long_it_was_not_used() -> None:
    capabilities: dict[str, Any] = copy.deepcopy(small.CAPABILITIES)
    capabilities["People"]["member.ban"] = {"about": "Keep someone out", "risk": "high"}
    c = small.community(
        small.rank("w", "post.write", "post.pin", "member.ban"),
        capabilities=capabilities,
        members=[small.member("ada")],
        assignments=[small.held("ada", "w")],
    )
    days = pd.date_range("2026-01-01", "2026-06-30", freq="7D", tz="UTC")
    log = pd.DataFrame({"member": "ada", "action": "post.write", "when": days})
    assert [(unused.rank, unused.capability) for unused in c.audit(log).unused] == [("w", "post.pin")]


def test_of_several_assignments_the_one_that_ended_is_named() -> None:
    """Others that ended before, or end later, have nothing to do with it."""
    charter = (
        "charter: 1\nkey: mill\nowner: ada\ncapabilities: {Work: {log.add: Add, log.see: See}}\n"
        "ranks: [{key: miller, title: Miller, grants: [log.add]}, {key: guest, title: Guest, grants: [log.see]},"
        " {key: member, title: Member, held-by: members}]\n"
    )
    given = "member,rank,from,until\nkit,guest,,2026-02-28\nkit,miller,,2026-03-31\nkit,guest,2026-05-01,2027-01-01\n"
    c = Community.from_texts({"charter.yaml": charter, "members.csv": "key\nada\nkit\n", "assignments.csv": given})
    log = pd.DataFrame([("2026-04-02T12:00Z", "kit", "log.add")], columns=["when", "member", "action"])
    (found,) = c.audit(log).not_allowed
    assert found.ended is not None
    assert (found.ended.rank, found.ended.period.said_until) == ("miller", "2026-03-31")
