"""What was really done, held against what was allowed then: row by row as one would ask, whatever the cuts."""

from __future__ import annotations

import gzip
import io
import json
import os
import shutil
import signal
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pandas as pd
import pytest

from ask_above import AskAboveError, Community, QuestionError, UnknownNameError
from ask_above.change import Assign, Edit, Grant, MemberStatus, Unassign, Withhold
from ask_above.demo.year import as_file, year
from ask_above.show import figures
from ask_above.show.audit import show_audit
from ask_above.show.screen import Screen
from ask_above.workspace import auditing
from asking import app_of, post
from commands import as_process, run
from conftest import DEMO
from generated import generate
from seeds import seeds

YEAR = DEMO / "actions.csv.gz"


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    return tmp_path / "river"


def log(*rows: tuple[str, ...]) -> pd.DataFrame:
    return pd.DataFrame(rows, columns=["when", "member", "action", "place", "author", "target"][: len(rows[0])])


def verdicts(audit: Any) -> dict[tuple[str, ...], Any]:
    return {(e.deed.member, e.deed.action, e.deed.place, e.deed.author, e.first): e.allowed for e in audit.judged}


# -- every verdict is what one would have been told then


@pytest.mark.parametrize("seed", seeds(3))
def test_every_row_is_judged_as_one_would_ask_at_its_moment(seed: int) -> None:
    rng, c = Random(seed), generate(Random(seed)).open()
    names, places = [*c.charter.catalogue.keys, *c.charter.catalogue.pairs], [*c.charter.places]
    who = [*c.register.members, "visitor", *(f"rank:{key}" for key in c.charter.ranks)]
    now = datetime.now(UTC)
    rows = [
        (
            (now + timedelta(hours=rng.randint(-120, 120), minutes=n)).isoformat(),
            rng.choice(who),
            rng.choice(names),
            rng.choice(places),
            rng.choice(["", *c.register.members]),
        )
        for n in range(300)
    ]
    frame = log(*rows)
    audit = c.audit(frame)
    assert audit.rows == len(rows)
    wrong = 0
    for when, member, action, place, author in rows:
        at = datetime.fromisoformat(when)
        wrong += not c.may(member, action, at=place, author=author or None, when=at)
    assert sum(each.times for each in audit.not_allowed) == wrong
    table = audit.table()
    assert int(table["times"].sum()) == len(rows)
    assert int(table.loc[~table["allowed"].fillna(value=True), "times"].sum()) == wrong


START = datetime(2026, 11, 1, tzinfo=UTC)


@pytest.fixture(scope="module")
def journalled(tmp_path_factory: pytest.TempPathFactory) -> tuple[Community, dict[int, Community]]:
    """Return the demo after some changes, of which each took effect two days after the one before; and each state."""
    here = tmp_path_factory.mktemp("journal") / "river"
    shutil.copytree(DEMO, here)
    run("member", "note", "tove", "begin", "--yes", cwd=here)
    edits: list[Edit] = [
        Assign("tove", "surveyor"),
        Grant("volunteer", ["kit.lend"]),
        Unassign("tove", "surveyor"),
        MemberStatus("otto", "locked"),
        Withhold("volunteer", ["kit.lend"]),
        Assign("bram", "surveyor", place="field", until="2099-01-01"),
    ]
    for edit in edits:
        Community.open(here).plan(edit).apply()
    # all changes were made within a second: they are spread over the days before now
    import sqlalchemy as sa

    with Community.open(here).home.store.engine.begin() as connection:
        for n in range(1, len(edits) + 3):
            said = {"at": (START + timedelta(days=2 * n)).isoformat(timespec="microseconds"), "n": n}
            connection.execute(sa.text("UPDATE journal SET at = :at WHERE number = :n"), said)
    c = Community.open(here)
    return c, {n: c.as_of(n) for n in range(1, len(edits) + 3)}


def doings(rng: Random) -> list[tuple[str, ...]]:
    """Return what some did at random moments, some of them those at which a change took effect, or just before."""
    rows: list[tuple[str, ...]] = []
    people, names = ["tove", "bram", "otto", "dara"], ["gauge.see", "kit.lend", "reading.post", "photo.upload"]
    for n in range(200):
        moment = START + timedelta(hours=rng.randint(-24, 480), seconds=n)
        if rng.random() < 0.3:
            moment = START + timedelta(days=2 * rng.randint(1, 8), microseconds=rng.choice([-1, 0, 1]))
        place = rng.choice(["upper-gauges", "site", "photo-wall"])
        rows.append((moment.isoformat(), rng.choice(people), rng.choice(names), place))
    return rows


def state_at(states: dict[int, Community], at: datetime) -> int:
    return max([1, *(n for n in states if START + timedelta(days=2 * n) <= at)])


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(2))
def test_with_a_journal_each_row_is_judged_by_the_state_of_its_moment(
    journalled: tuple[Community, dict[int, Community]], seed: int
) -> None:
    c, states = journalled
    rows = doings(Random(seed))
    audit = c.audit(log(*rows))
    expected = 0
    for when, member, action, place in rows:
        at = datetime.fromisoformat(when)
        expected += not states[state_at(states, at)].may(member, action, at=place, when=at)
    assert sum(each.times for each in audit.not_allowed) == expected
    first = START + timedelta(days=2)
    assert audit.before_journal == sum(datetime.fromisoformat(row[0]) < first for row in rows)


@pytest.mark.parametrize("seed", seeds(2))
def test_what_took_a_right_away_is_found_by_asking_before_and_after_each_edge(
    journalled: tuple[Community, dict[int, Community]], seed: int
) -> None:
    c, states = journalled

    def allowed(deed: Any, at: datetime) -> bool:
        return bool(states[state_at(states, at)].may(deed.member, deed.action, at=deed.place, when=at))

    ends = {each.period.end for state in states.values() for each in state.register.assignments if each.period.end}
    changes = {START + timedelta(days=2 * n): n for n in states}
    edges = sorted({*changes, *(datetime.fromtimestamp(end / 1_000_000, UTC) for end in ends)})
    just = timedelta(microseconds=1)
    found = c.audit(log(*doings(Random(seed)))).not_allowed
    assert len({each.since for each in found}) > 1
    for each in found:
        first = datetime.fromtimestamp(each.first / 1_000_000, UTC)
        turned = [e for e in edges if e <= first and allowed(each.deed, e - just) and not allowed(each.deed, e)]
        until = datetime.fromtimestamp(each.until / 1_000_000, UTC) if each.until is not None else None
        assert until == (turned[-1] if turned else None), each
        assert each.since == (changes.get(until) if until and not each.ended else None)


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(3))
def test_however_it_is_cut_and_shuffled_the_audit_is_the_same(seed: int) -> None:
    rng, c = Random(seed), Community.demo()
    whole = pd.read_csv(YEAR, dtype=str, keep_default_na=False).sample(3000, random_state=seed)
    shuffled = whole.sample(frac=1, random_state=seed + 1)
    cuts = sorted(rng.sample(range(1, len(whole)), 6))
    parts = [shuffled.iloc[a:b] for a, b in zip([0, *cuts], [*cuts, len(whole)], strict=True)]
    one, other = c.audit(whole), c.audit(parts)
    assert one.not_allowed == other.not_allowed
    assert one.used == other.used
    assert verdicts(one) == verdicts(other)


# -- the year of the demo, with its three incidents


@pytest.mark.slow
def test_the_year_that_ships_is_what_its_seed_makes() -> None:
    assert gzip.decompress(YEAR.read_bytes()) == gzip.decompress(as_file(year(Community.demo())))


@pytest.mark.slow
def test_the_audit_finds_the_three_incidents(here: Path) -> None:
    done = run("audit", str(YEAR), cwd=here)
    said = " ".join(done.stdout.split())
    assert done.returncode == 1
    assert "40,000 actions, 1 Nov 2025 to 31 Oct 2026" in said
    assert "✗ 50 of them were not allowed" in said
    assert "✗ Gauge feed used post.write in Notices 48 times, from 14 Feb 2026" in said
    assert "Because: The place Notices denies post.write to Member (charter.yaml line 180)." in said
    assert "✗ Mira Swale used member.mute in River talk (medium risk) Once, on 2 Oct 2026, 00:22." in said
    assert (
        "It was allowed until 2 Oct 2026, 00:00, when their assignment of Board host ended (assignments.csv line"
        in said
    )
    assert "Allowed then, not now: 3 actions Mira Swale used member.mute" in said
    assert "▲ Board host grants place.pin; not used by any of the 4 members who have it" in said
    command = "ask-above rank withhold host place.pin --plan"
    assert command in said
    assert run(*command.split()[1:], cwd=here).returncode == 0


def test_what_is_not_allowed_any_more_for_one_reason_is_told_once_with_its_places(here: Path) -> None:
    assert run("member", "lock", "bram", "--yes", cwd=here).returncode == 0
    places = ("welcome", "river-talk", "field-talk")
    rows = "".join(f"bram,post.write,2026-05-01T12:00:00Z,{place}\n" for place in places)
    (here / "a.csv").write_text(f"member,action,when,place\n{rows}bram,rota.join,2026-05-01T12:00:00Z,river-talk\n")
    said = " ".join(run("audit", "a.csv", cwd=here).stdout.split())
    assert "Allowed then, not now: 4 actions" in said
    locked = "Bram Ashby is locked, so every answer is no."
    assert f"Bram Ashby used post.write in Welcome desk, River talk and Field talk, 3 times {locked}" in said
    assert f"Bram Ashby used rota.join in River talk {locked}" in said


def test_what_ranks_are_used_for_and_what_is_kept_for_the_day(here: Path) -> None:
    c = Community.open(here)
    audit = c.audit(YEAR)
    used = {(each.rank, each.capability): each for each in audit.used}
    assert used["volunteer", "photo.upload"].members > 20
    assert ("host", "place.pin") not in used
    # what is of high risk is never told to be of no use
    assert not [e for e in audit.unused if c.charter.catalogue.capabilities[e.capability].risk == "high"]
    charter = here / "charter.yaml"
    text = charter.read_text()
    charter.write_text(text.replace("most-high-risk: 6}", "most-high-risk: 6, silent: {unused: Kept for floods}}"))
    assert Community.open(here).audit(YEAR).unused == []
    # from what was done: the ranks that would do for it
    needs = audit.used_by("editor")
    assert ("post.publish", "front-page") in needs
    assert c.fit(needs)
    short = c.audit(log(("2026-05-01T12:00:00Z", "tove", "photo.upload", "photo-wall")))
    assert short.unused == []


@pytest.mark.slow
def test_the_figure_tells_used_and_unused_apart() -> None:
    axes = figures.usage(Community.demo().audit(YEAR))
    words = [text.get_text() for text in axes.texts]
    assert {"granted and used", "granted, never used", "high risk, used"} <= set(words)
    assert "Steward" not in words


# -- logs as they come


class TestLogs:
    ROWS = (
        ("2026-05-01T12:00:00Z", "dara", "photo.upload", "photo-wall"),
        ("2026-05-01T12:00:00+02:00", "dara", "post.write", "notices"),
        ("2026-05-01 12:00:00", "visitor", "place.see", "notices"),
        ("2026-05-01", "ada", "rank.assign", ""),
    )

    def test_csv_json_lines_and_parquet_say_the_same(self, tmp_path: Path) -> None:
        frame = log(*self.ROWS)
        frame.to_csv(tmp_path / "a.csv", index=False)
        frame.to_json(tmp_path / "a.jsonl", orient="records", lines=True)
        frame.to_parquet(tmp_path / "a.parquet")
        moments = frame.assign(when=pd.to_datetime(frame["when"], format="ISO8601", utc=True))
        moments.iloc[:2].to_parquet(tmp_path / "b.parquet")
        c = Community.demo()
        audits = [c.audit(tmp_path / name) for name in ("a.csv", "a.jsonl", "a.parquet")]
        assert [(a.rows, [e.deed for e in a.not_allowed]) for a in audits] == [(4, [audits[0].not_allowed[0].deed])] * 3
        assert verdicts(audits[0]) == verdicts(audits[2])
        assert c.audit(tmp_path / "b.parquet").rows == 2
        assert c.audit([tmp_path / "a.csv", tmp_path / "b.parquet"]).rows == 6

    def test_columns_called_otherwise_are_recognised_or_mapped(self) -> None:
        c = Community.demo()
        frame = log(*self.ROWS).rename(columns={"when": "Timestamp", "member": "User", "place": "channel"})
        assert c.audit(frame).rows == 4
        odd = log(*self.ROWS).rename(columns={"when": "t0", "action": "did it"})
        with pytest.raises(QuestionError, match="No column says action and when"):
            c.audit(odd)
        assert c.audit(odd, mapping={"t0": "when", "did it": "action"}).rows == 4
        for mapping, said in (({"x": "when"}, "no column 'x'"), ({"t0": "wenn"}, "no field 'wenn'.*Nearest: when")):
            with pytest.raises(QuestionError, match=said):
                c.audit(odd, mapping=mapping)

    def test_times_without_an_offset_are_the_charter_s(self) -> None:
        c = Community.demo()
        end = c.register.of("mira")[0].period.end or 0
        rows = [("2026-10-01T23:59:00", "mira", "thread.close", "river-talk")]
        assert c.audit(log(*rows)).not_allowed == []
        assert c.audit(log(("2026-10-02T00:00:00", *rows[0][1:]))).not_allowed[0].first == end

    @pytest.mark.parametrize("when", ["yesterday", "01/05/2026", "", "2026-13-01"])
    def test_a_moment_that_is_none_is_told_with_its_row(self, when: str) -> None:
        with pytest.raises(QuestionError, match="Row 2"):
            Community.demo().audit(log(self.ROWS[0], (when, *self.ROWS[0][1:])))

    def test_names_that_nothing_has_are_told_and_are_no_silent_yes(self) -> None:
        audit = Community.demo().audit(
            log(
                ("2026-05-01T12:00:00Z", "nobody-here", "photo.upload", "photo-wall"),
                ("2026-05-01T12:00:00Z", "dara", "photo.uplaod", "photo-wall"),
                ("2026-05-01T12:00:00Z", "dara", "photo.upload", "nowhere-at-all"),
                ("2026-05-01T12:00:00Z", "dara", "photo.upload", "nowhere-at-all"),
            )
        )
        assert [(e.what, e.name, e.times) for e in audit.unknown] == [
            ("place", "nowhere-at-all", 2),
            ("member", "nobody-here", 1),
            ("capability", "photo.uplaod", 1),
        ]
        assert audit.not_allowed == []

    def test_acts_are_judged_too_and_what_was_refused_was_not_done(self) -> None:
        frame = pd.DataFrame(
            [
                ("2026-05-01T12:00:00Z", "bram", "moderate", "river-talk", "tove", "", "true"),
                ("2026-05-01T12:00:00Z", "ada", "assign", "site", "surveyor", "tove", "true"),
                ("2026-05-01T12:00:00Z", "bram", "assign", "site", "surveyor", "tove", "false"),
            ],
            columns=["when", "member", "action", "place", "target", "to", "decision"],
        )
        audit = Community.demo().audit(frame)
        assert [(e.deed.action, e.deed.target) for e in audit.not_allowed] == [("moderate", "tove")]
        assert (audit.rows, audit.refused) == (2, 1)

    @pytest.mark.slow
    def test_what_a_server_wrote_down_can_be_audited_as_it_is(self, here: Path) -> None:
        app = app_of(here, decisions=here / "asked.jsonl")
        subject = {"type": "member", "id": "ada"}
        post(
            app,
            "evaluations",
            {
                "subject": subject,
                "evaluations": [
                    {"action": {"name": "post.write"}, "resource": {"type": "place", "id": "notices"}},
                    {
                        "action": {"name": "assign"},
                        "resource": {"type": "rank", "id": "surveyor", "properties": {"to": "tove"}},
                    },
                    {"action": {"name": "moderate"}, "resource": {"type": "rank", "id": "steward"}},
                ],
            },
        )
        audit = Community.open(here).audit(here / "asked.jsonl")
        assert (audit.rows, audit.refused, audit.unknown, bool(audit)) == (2, 1, [], True)

    @pytest.mark.parametrize(
        ("name", "content"),
        [
            ("log.txt", b"x"),
            ("log.csv", b""),
            ("log.csv", b"\xff\xfe\x00"),
            ("log.csv", b"a,b\n1,2\n"),
            ("log.jsonl", b"{"),
            ("log.parquet", b"PAR1"),
            ("log.csv.gz", b"no gzip"),
        ],
    )
    def test_what_is_no_log_is_told_without_a_traceback(self, here: Path, name: str, content: bytes) -> None:
        (here / name).write_bytes(content)
        done = run("audit", name, cwd=here)
        assert done.returncode == 2
        assert done.stderr.strip()
        assert "Traceback" not in done.stderr
        assert "Ask Above itself" not in done.stderr

    @pytest.mark.slow
    def test_output_for_machines(self, here: Path) -> None:
        done = run("audit", str(YEAR), "--format", "json", cwd=here)
        data = json.loads(done.stdout)
        assert data["rows"] == 40_000
        assert {each["kind"] for each in data["found"]} == {"not-allowed", "no-longer"}
        assert run("audit", str(YEAR), "--format", "csv", cwd=here).stdout.startswith("kind,member,action,place")
        (here / "fine.csv").write_text("when,member,action,place\n2026-05-01,ada,rank.assign,site\n")
        assert run("audit", "fine.csv", cwd=here).returncode == 0


# -- past one machine


@pytest.mark.slow
class TestCluster:
    def test_workers_say_what_this_process_says(self, here: Path) -> None:
        frame = pd.read_csv(YEAR, dtype=str, keep_default_na=False)
        frame["when"] = pd.to_datetime(frame["when"], utc=True)
        folder = here / "logs"
        folder.mkdir()
        for n in range(4):
            frame.iloc[n::4].to_parquet(folder / f"part-{n}.parquet")
        alone = run("audit", "logs", cwd=here)
        spread = as_process("audit", "logs", "--cluster", "local", cwd=here)
        assert alone.stdout == spread.stdout
        assert alone.returncode == spread.returncode == 1
        import dask.dataframe as dd

        c = Community.open(here)
        assert c.audit(dd.read_parquet(folder)).not_allowed == c.audit(folder).not_allowed

    def test_a_worker_that_is_killed_is_made_up_for(self, here: Path) -> None:
        from dask import distributed

        frame = pd.read_csv(YEAR, dtype=str, keep_default_na=False)
        frame["when"] = pd.to_datetime(frame["when"], utc=True)
        for n in range(12):
            frame.iloc[n::12].to_parquet(here / f"part-{n}.parquet")
        files, c = sorted(here.glob("*.parquet")), Community.open(here)
        how: dict[str, Any] = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": None, "silence_logs": 50}
        cluster: Any = distributed.LocalCluster(**how)  # type: ignore[no-untyped-call]
        killed: list[int] = []

        def told(done: int, _: int) -> None:
            if done == 3 and not killed:
                worker = next(iter(cluster.workers.values()))
                killed.append(worker.pid)
                os.kill(worker.pid, signal.SIGKILL)

        with cluster:
            spread = c.audit(files, cluster=cluster.scheduler_address, told=told)
        assert len(killed) == 1
        assert spread.not_allowed == c.audit(files).not_allowed

    def test_many_questions_are_answered_by_workers_as_here(self, here: Path) -> None:
        import dask.dataframe as dd

        log = pd.read_csv(YEAR, dtype=str, keep_default_na=False)
        asked = log[log["place"] != ""].rename(columns={"action": "capability"})[["member", "capability", "place"]]
        c = Community.open(here)
        asked = asked[
            asked["member"].isin([*c.register.members]) & asked["capability"].isin([*c.charter.catalogue.capabilities])
        ]
        asked["when"] = [None if n % 50 else "2026-03-01" for n in range(len(asked))]
        cut: Any = dd.from_pandas
        parts: Any = c.may_many(cut(asked, npartitions=5))
        for scheduler in ("threads", "processes"):
            pd.testing.assert_series_equal(parts.compute(scheduler=scheduler), c.may_many(asked))
        parts = c.may_many(cut(asked.replace({"member": {"dara": "dra"}}), npartitions=2))
        with pytest.raises(UnknownNameError, match="dra"):
            parts.compute()
        with pytest.raises(QuestionError, match="lacks place"):
            c.may_many(cut(asked.drop(columns="place"), npartitions=2))

    def test_a_cluster_that_there_is_not_and_a_script_without_a_guard_are_told(
        self, here: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr(auditing, "CONNECTS_WITHIN", "1s")
        assert "no cluster at" in run("audit", str(YEAR), "--cluster", "tcp://127.0.0.1:9", cwd=here).stderr
        said = (
            "from ask_above import Community\nfrom pathlib import Path\n"
            f"Community.open('.').audit(Path({str(YEAR)!r}), cluster='local')\n"
        )
        done = subprocess.run([sys.executable, "-"], input=said, capture_output=True, text=True, check=False, cwd=here)
        assert "from standard input" in done.stderr


def test_a_worker_without_the_package_says_what_to_install() -> None:
    from ask_above.workspace.auditing import Spread

    class Elsewhere:
        def submit(self, work: Any, *_: Any, pure: bool) -> Elsewhere:
            assert work is not pure
            return self

        def result(self) -> None:
            raise ModuleNotFoundError("No module named 'ask_above'", name="ask_above")

        def close(self) -> None: ...

    spread = Spread("local")
    spread._client = Elsewhere()
    with pytest.raises(QuestionError, match=r"A worker has no 'ask_above'.*pip install 'ask-above\[cluster\]'"):
        [*spread.run(len, [((),)])]


def test_what_was_done_through_a_group_an_exception_or_an_override_is_told_apart() -> None:
    c = Community.from_texts(
        {
            "charter.yaml": """charter: 1
key: mill
owner: ada
capabilities: {Work: {log.add: Add to the log, log.mend: Mend the log, log.read: Read the log}}
ranks:
  - {key: keeper, title: Keeper, grants: [log.read]}
  - {key: member, title: Member, held-by: members}
groups: [{key: night, title: Night shift}]
places:
  - key: weir
    title: The weir
    kind: board
    overrides: {keeper: {allow: [log.add]}, night: {allow: [log.mend]}}
    exceptions: {bo: {allow: [log.add]}}
""",
            "members.csv": "key,groups\nada,\nbo,\ncy,night\nkit,\n",
            "assignments.csv": "member,rank\nkit,keeper\n",
        }
    )
    rows = [("bo", "log.add"), ("cy", "log.mend"), ("kit", "log.add"), ("kit", "log.read"), ("ada", "log.mend")]
    audit = c.audit(log(*(("2026-05-01T12:00:00Z", who, what, "weir") for who, what in rows)))
    assert {(each.rank, each.capability) for each in audit.used} == {
        ("exception in weir", "log.add"),
        ("group night in weir", "log.mend"),
        ("override keeper in weir", "log.add"),
        ("keeper", "log.read"),
        ("owner", "log.mend"),
    }
    out = io.StringIO()
    show_audit(Screen.plain(out), audit, usage=True)
    said = out.getvalue()
    for words in (
        "an exception in The weir",
        "the group Night shift, in The weir",
        "Keeper, by an override in The weir",
    ):
        assert words in said


@pytest.mark.parametrize("seed", seeds(6))
@pytest.mark.slow
def test_under_the_least_ladder_all_that_was_done_would_still_be_allowed(tmp_path: Path, seed: int) -> None:
    rng, folder = Random(seed), tmp_path / "here"
    if seed:
        folder.mkdir()
        for name, text in generate(rng).texts().items():
            (folder / name).write_text(text)
        c = Community.open(folder)
        members, places, names = [*c.register.members], [*c.charter.places], c.charter.catalogue.keys
        if not members:
            pytest.skip("nobody is in it")
        rows = [
            ("2026-11-01T12:00:00Z", rng.choice(members), rng.choice(names), rng.choice(places)) for _ in range(120)
        ]
        done = log(*rows)
    else:
        shutil.copytree(DEMO, folder)
        done = pd.read_csv(YEAR, dtype=str, keep_default_na=False)
    before = Community.open(folder).audit(done)
    allowed = {each.deed for each in before.judged if each.now}
    found = before.least()
    assert found or seed
    for each in found:
        made = run(*each.command.split()[1:], "--yes", "--force", "--why", "a try", cwd=folder)
        assert made.returncode == 0, (each.command, made.stdout, made.stderr)
    after = Community.open(folder).audit(done)
    assert allowed == {each.deed for each in after.judged if each.now and each.deed in allowed}


def test_many_communities_as_one_table(here: Path, tmp_path: Path) -> None:
    shutil.copytree(here, tmp_path / "other")
    (tmp_path / "other" / "charter.yaml").write_text("charter: 2\n")
    done = run("check", "--each", str(tmp_path), "--format", "csv", cwd=tmp_path)
    lines = done.stdout.splitlines()
    assert lines[0] == "community,title,faults,unmet,unmet_later,advice,unbounded,high_risk,climbs"
    assert lines[1].startswith("other,,")
    assert lines[2].startswith("river,Wren Valley River Watch,0,3,0,12,2,5,")
    assert done.returncode == 2
    with pytest.raises(AskAboveError):
        Community.open(tmp_path / "other")
