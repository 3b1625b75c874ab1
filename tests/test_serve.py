"""The decision service: what the protocol says, always fresh, closed by default."""

from __future__ import annotations

import asyncio
import json
import re
import shutil
from contextlib import suppress
from copy import deepcopy
from datetime import UTC, datetime, timedelta
from itertools import product
from pathlib import Path
from random import Random
from threading import Thread
from typing import Any, ClassVar

import httpx
import pandas as pd
import pytest
import uvicorn
from starlette.applications import Starlette
from starlette.routing import Mount

from ask_above import AskAboveError, Community, QuestionError, UnknownNameError
from ask_above.change import Assign, Edit, Grant, MemberAdd, MemberGroups, MemberStatus, Unassign
from ask_above.charter.where import NOWHERE
from ask_above.errors import StoreError
from ask_above.serve import Client, ServiceError
from ask_above.serve.current import Current
from ask_above.serve.paging import Pages
from ask_above.serve.reading import read_elsewhere
from ask_above.serve.service import SlowOnes
from ask_above.serve.source import Folder
from ask_above.workspace.home import Home
from ask_above.workspace.tokens import TokenMay, add_token, remove_token
from asking import app_of, asked, free_port, post, server, until
from commands import run
from conftest import DEMO
from databases import fresh_database
from generated import generate
from seeds import seeds

CASES = json.loads((Path(__file__).parent / "data" / "authzen.json").read_text("utf-8"))


@pytest.fixture(scope="module")
def demo_app() -> Any:
    return app_of(Community.demo())


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    return tmp_path / "river"


def question(who: str, name: str, place: str, **more: Any) -> dict[str, Any]:
    kind = "rank" if who.startswith("rank:") else "visitor" if who == "visitor" else "member"
    subject = {"type": kind, "id": who.removeprefix("rank:")}
    return {"subject": subject, "action": {"name": name}, "resource": {"type": "place", "id": place}, **more}


# -- what the protocol says


@pytest.mark.parametrize("case", CASES, ids=[each["name"] for each in CASES])
def test_every_request_has_its_answer(demo_app: Any, case: dict[str, Any]) -> None:
    reply = post(demo_app, case["path"], case["request"])
    assert reply.data == case["response"]
    assert reply.status == case["status"]


def test_the_document_that_describes_it(demo_app: Any) -> None:
    found = asked(demo_app, "GET", "/.well-known/authzen-configuration").data
    assert found["policy_decision_point"] == "http://localhost"
    for name in ("access_evaluation", "access_evaluations", "search_subject", "search_resource", "search_action"):
        path = found[f"{name}_endpoint"].removeprefix("http://localhost")
        assert asked(demo_app, "POST", path, {}).status == 400
    outside = app_of(Community.demo(), public_url="https://river.example/decide/")
    told = asked(outside, "GET", "/.well-known/authzen-configuration").data
    assert told["access_evaluation_endpoint"] == "https://river.example/decide/access/v1/evaluation"


def test_a_request_s_id_comes_back(demo_app: Any) -> None:
    assert post(demo_app, "evaluation", {}, x_request_id="abc-1").headers["x-request-id"] == "abc-1"
    made = {post(demo_app, "evaluation", {}).headers["x-request-id"] for _ in range(3)}
    assert len(made) == 3
    assert post(demo_app, "evaluation", {}, x_request_id="a\x00b").headers["x-request-id"] != "a\x00b"


def test_reasons_only_where_asked_for_and_for_the_user_nothing_they_may_not_see(demo_app: Any) -> None:
    c = Community.demo()
    hidden = question("bram", "post.write", "landowners")
    assert post(demo_app, "evaluation", hidden).data == {"decision": False}
    said = post(demo_app, "evaluation", {**hidden, "context": {"explain": "user"}}).data["context"]
    assert said.keys() == {"reason_user"}
    text = said["reason_user"]["en"]
    names = [each.title for each in c.charter.ranks.values()] + [each.title for each in c.charter.groups.values()]
    names += [c.charter.places["landowners"].title, *(m.name for m in c.register.members.values())]
    assert not [name for name in names if name and name in text]
    admin = post(demo_app, "evaluation", {**hidden, "context": {"explain": "admin"}}).data["context"]
    answer = c.may("bram", "post.write", at="landowners")
    assert admin["reason_admin"] == {"en": answer.reason}
    whole = post(demo_app, "evaluation", {**hidden, "context": {"explain": "all"}}).data["context"]
    assert whole["account"] == json.loads(json.dumps(answer.as_data()))


@pytest.mark.parametrize("seed", seeds(3))
def test_every_endpoint_says_what_the_community_says(seed: int) -> None:
    c = generate(Random(seed)).open()
    app, rng = app_of(c), Random(seed)
    members, places = [*c.register.members], [*c.charter.places]
    names, who = c.charter.catalogue.keys, [*c.register.members, *(f"rank:{key}" for key in c.charter.ranks), "visitor"]
    for _ in range(60):
        one, name, place = rng.choice(who), rng.choice(names), rng.choice(places)
        when = datetime(2026, 1, 1, tzinfo=UTC) + timedelta(hours=rng.randrange(20_000))
        data = question(one, name, place, context={"time": when.isoformat()})
        assert post(app, "evaluation", data).data["decision"] == c.may(one, name, at=place, when=when).allowed
    for _ in range(8):
        name, place, one = rng.choice(names), rng.choice(places), rng.choice(members)
        found = post(app, "search/subject", {**question("x", name, place), "subject": {"type": "member"}}).data
        assert [each["id"] for each in found["results"]] == sorted(c.who(name, at=place)["member"])
        found = post(app, "search/resource", {**question(one, name, place), "resource": {"type": "place"}}).data
        assert [each["id"] for each in found["results"]] == sorted(c.where(one, name))
        asking: Any = {"subject": {"type": "member", "id": one}, "resource": {"type": "place", "id": place}}
        found = post(app, "search/action", asking).data
        assert [each["name"] for each in found["results"]] == sorted(n for n in names if c.may(one, n, at=place))
        rank = rng.choice([*c.charter.ranks])
        target: Any = {"type": "rank", "id": rank, "properties": {"at": place}}
        asking = {"subject": {"type": "member"}, "action": {"name": "assign"}, "resource": target}
        found = post(app, "search/subject", asking).data
        assert [each["id"] for each in found["results"]] == sorted(
            m for m in members if c.may_assign(m, rank, at=place)
        )
        # what one act needs is passed over by the others
        other = rng.choice(members)
        target["properties"] |= {"to": other, "of": other}
        found = post(app, "search/action", {"subject": asking["subject"] | {"id": one}, "resource": target}).data
        answers = {
            "moderate": c.may_moderate(one, f"rank:{rank}", at=place),
            "assign": c.may_assign(one, rank, to=other, at=place),
            "unassign": c.may_unassign(one, rank, of=other, at=place),
            "manage": c.may_manage(one, rank),
            "call": c.may_call(one, rank, at=place),
        }
        assert [each["name"] for each in found["results"]] == sorted(act for act, yes in answers.items() if yes)


class TestPages:
    ASKED: ClassVar = {**question("x", "place.see", "notices"), "subject": {"type": "member"}}

    def pages(self, app: Any, limit: int, between: Any = lambda: None) -> list[str]:
        found: list[str] = []
        token = ""
        while True:
            page = post(app, "search/subject", {**self.ASKED, "page": {"limit": limit, "token": token}}).data
            found += [each["id"] for each in page["results"]]
            token = page["page"]["next_token"]
            if not token:
                return found
            between()

    def test_pages_put_together_are_the_whole(self, demo_app: Any) -> None:
        whole = [each["id"] for each in post(demo_app, "search/subject", self.ASKED).data["results"]]
        for limit in (1, 7, 1000):
            assert self.pages(demo_app, limit) == whole

    @pytest.mark.slow
    def test_while_the_community_changes_nobody_comes_twice_and_whoever_holds_throughout_is_there(
        self, here: Path
    ) -> None:
        run("member", "note", "tove", "begin", "--yes", cwd=here)
        app = app_of(here)
        start = set(self.pages(app, 1000))
        comes = iter(range(100))

        def between() -> None:
            n = next(comes)
            run("member", "lock", sorted(start)[n * 3 % len(start)], "--yes", cwd=here)
            run("member", "add", f"new-{n}", "--yes", cwd=here)
            app.current.look()

        met = self.pages(app, 17, between)
        assert len(met) == len(set(met))
        throughout = start & {each["id"] for each in post(app, "search/subject", self.ASKED).data["results"]}
        assert throughout <= set(met)

    def test_a_token_is_good_for_its_question_alone_and_on_every_worker(self, here: Path) -> None:
        run("member", "note", "tove", "begin", "--yes", cwd=here)
        one, other = app_of(here), app_of(here)
        token = post(one, "search/subject", {**self.ASKED, "page": {"limit": 2}}).data["page"]["next_token"]
        assert post(other, "search/subject", {**self.ASKED, "page": {"token": token}}).status == 200
        another = {**self.ASKED, "resource": {"type": "place", "id": "river-talk"}}
        assert post(one, "search/subject", {**another, "page": {"token": token}}).status == 400
        assert post(app_of(DEMO), "search/subject", {**self.ASKED, "page": {"token": token}}).status == 400
        flipped = token[:-2] + ("AA" if token[-2:] != "AA" else "BB")
        assert post(one, "search/subject", {**self.ASKED, "page": {"token": flipped}}).status == 400


# -- whatever is sent


class TestWhateverIsSent:
    PLAIN = question("dara", "post.write", "notices")
    ODD: ClassVar[tuple[Any, ...]] = (
        None,
        0,
        -1,
        1.5,
        True,
        "",
        "x" * 5000,
        [],
        [[]],
        {},
        {"id": {}},
        "\ud800",
        "dara\n",
        {"type": "member"},
    )

    @pytest.mark.parametrize(
        "path", ["evaluation", "evaluations", "search/subject", "search/resource", "search/action"]
    )
    @pytest.mark.slow
    def test_wrong_types_in_every_field_are_told_and_never_a_fault_of_the_service(
        self, demo_app: Any, path: str
    ) -> None:
        rng = Random(path)
        for _ in range(400):
            data: Any = json.loads(json.dumps({**self.PLAIN, "evaluations": [{}], "page": {"limit": 3}, "options": {}}))
            for _ in range(rng.randrange(1, 4)):
                spot: Any = data
                while isinstance(spot, dict) and spot and rng.random() < 0.6:
                    key = rng.choice([*spot, "properties", "context"])
                    if not isinstance(spot.get(key), dict):
                        spot[key] = deepcopy(rng.choice(self.ODD))
                        break
                    spot = spot[key]
                else:
                    if isinstance(spot, dict):
                        spot[rng.choice(["time", "explain", "author", "at", "using", "token"])] = deepcopy(
                            rng.choice(self.ODD)
                        )
            reply = asked(demo_app, "POST", f"/access/v1/{path}", raw=json.dumps(data).encode())
            assert reply.status in (200, 400), (data, reply.body)
            assert b"Traceback" not in reply.body

    @pytest.mark.parametrize(
        ("raw", "status"),
        [
            (b"", 400),
            (b"{", 400),
            (b"[]", 400),
            (b"null", 400),
            (b'{"a":' * 5000, 400),
            (b"[" * 100_000, 400),
            (b'{"subject": "\xff"}', 400),
            (b'{"context":' + b'{"a":' * 900 + b"1" + b"}" * 900 + b"}", 400),
            (b"x" * (1024 * 1024 + 1), 413),
        ],
    )
    def test_what_is_no_request_is_told(self, demo_app: Any, raw: bytes, status: int) -> None:
        assert asked(demo_app, "POST", "/access/v1/evaluation", raw=raw).status == status

    def test_other_types_methods_and_paths(self, demo_app: Any) -> None:
        assert asked(demo_app, "POST", "/access/v1/evaluation", self.PLAIN, content_type="text/plain").status == 400
        assert asked(demo_app, "GET", "/access/v1/evaluation").status == 405
        assert asked(demo_app, "GET", "/nothing").status == 404
        many = {**self.PLAIN, "evaluations": [{}] * 1001}
        assert post(demo_app, "evaluations", many).status == 413

    def test_names_are_keys_or_one_member_s_address(self, here: Path) -> None:
        app = app_of(here)
        address = Community.open(here).member("dara").email
        by_address = {**self.PLAIN, "subject": {"type": "member", "id": address.upper()}}
        assert post(app, "evaluation", by_address).data == {"decision": False}
        by_name = {**self.PLAIN, "subject": {"type": "member", "id": "Dara Fenwick"}}
        assert post(app, "evaluation", by_name).data["context"]["error"]["status"] == 404


# -- fresh and whole


def told(community: Community) -> list[Any]:
    """The assignments, without where they were read."""
    return [each._replace(where=NOWHERE) for each in community.register.assignments]


def all_that_is_so(c: Community, but: set[str]) -> set[Any]:
    """Every yes about members who are not left out, alone or with one another; of ranks without a limit."""
    members = [key for key in c.register.members if key not in but]
    places, free = [*c.charter.places], [key for key, rank in c.charter.ranks.items() if rank.limit is None]
    asked_for = product(members, c.charter.catalogue.keys, places)
    so: set[Any] = {(m, cap, q) for m, cap, q in asked_for if c.may(m, cap, at=q)}
    for actor, target, q in product(members, members, places):
        so |= {(actor, "moderate", target, q)} if c.may_moderate(actor, target, at=q) else set()
        so |= {(actor, "assign", r, target, q) for r in free if c.may_assign(actor, r, to=target, at=q)}
        so |= {(actor, "unassign", r, target, q) for r in free if c.may_unassign(actor, r, of=target, at=q)}
    return so


def of_somebody(rng: Random, c: Community) -> Edit:
    """Some edit of a member: a rank, a group, the status."""
    who, at = rng.choice([*c.register.members]), rng.choice([*c.charter.places])
    edits: list[Edit] = [Assign(who, rng.choice([*c.charter.ranks]), at)]
    edits += [MemberStatus(who, rng.choice(["active", "locked", "retired"]))]
    edits += [MemberGroups(who, put=(rng.choice([*c.charter.groups]),))]
    return rng.choice([*edits, *(Unassign(*each[:3]) for each in c.register.of(who)[:1])])


class TestFresh:
    ASKED = question("tove", "gauge.see", "upper-gauges")

    def decision(self, app: Any) -> bool:
        return bool(post(app, "evaluation", self.ASKED).data["decision"])

    def test_a_change_by_command_or_by_hand_is_answered_and_has_its_number(self, here: Path) -> None:
        app = app_of(here)
        assert not self.decision(app)
        run("assign", "surveyor", "tove", "--yes", cwd=here)
        app.current.look()
        reply = post(app, "evaluation", self.ASKED)
        assert (reply.data, reply.headers["x-ask-above-state"]) == ({"decision": True}, "2")
        run("unassign", "surveyor", "tove", "--yes", cwd=here)
        app.current.look()
        assert not self.decision(app)
        file = here / "charter.yaml"
        file.write_text(file.read_text().replace("grants: [post.publish", "grants: [gauge.see, post.publish"))
        app.current.look()
        assert post(app, "evaluation", question("rank:editor", "gauge.see", "upper-gauges")).data == {"decision": True}
        assert re.fullmatch(r"3-[0-9a-f]{8}", post(app, "evaluation", self.ASKED).headers["x-ask-above-state"])

    @pytest.mark.slow
    def test_many_changes_taken_from_the_journal_are_what_is_read_anew(self, here: Path) -> None:
        run("member", "note", "tove", "begin", "--yes", cwd=here)
        app = app_of(here)
        for edit in (
            Assign("tove", "surveyor"),
            Assign("otto", "host", place="commons"),
            Grant("volunteer", ["kit.lend"]),
            Unassign("tove", "surveyor"),
        ):
            Community.open(here).plan(edit).apply()
            app.current.look()
            mine, anew = app.current.now.state.community, Community.open(here)
            assert (mine.table().words == anew.table().words).all()
            assert told(mine) == told(anew)

    @pytest.mark.slow
    def test_a_large_charter_that_is_edited_is_read_by_another_process(
        self, here: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        """Edits by hand and changes by command in turns; and what is broken is read once, not at every look."""
        monkeypatch.setattr("ask_above.serve.source._LONG", 0.0)
        read: list[object] = []

        def counted(home: Home) -> object:
            read.append(home)
            return read_elsewhere(home)

        monkeypatch.setattr("ask_above.serve.source.read_elsewhere", counted)
        run("member", "note", "tove", "begin", "--yes", cwd=here)
        current = Current(Folder(here), Pages(b"secret"))
        monkeypatch.setattr("ask_above.workspace.home.read_files", None)  # no charter is read in this process
        monkeypatch.setattr("ask_above.workspace.by_hand.read_files", None)
        file = here / "charter.yaml"
        for n, (old, new) in enumerate(
            (("grants: [post.publish", "grants: [gauge.see, post.publish"), ("title: Notices", "title: Notes")), 1
        ):
            file.write_text(file.read_text().replace(old, new))
            current.look()
            assert (len(read), current.fault) == (n, "")
        community = current.now.state.community
        assert community.may("rank:editor", "gauge.see", at="upper-gauges")
        assert community.place("notices").title == "Notes"
        monkeypatch.undo()
        monkeypatch.setattr("ask_above.serve.source._LONG", 0.0)
        monkeypatch.setattr("ask_above.serve.source.read_elsewhere", counted)
        run("assign", "surveyor", "tove", "--yes", cwd=here)
        current.look()
        assert len(read) == 2
        mine, anew = current.now.state.community, Community.open(here)
        assert (mine.table().words == anew.table().words).all()
        assert told(mine) == told(anew)
        text = file.read_text()
        file.write_text(text.replace("builds-on: [surveyor]", "builds-on: [survayor]"))
        for _ in range(3):
            current.look()
            assert (len(read), "survayor" in current.fault) == (3, True)
        file.write_text(text)
        current.look()
        assert (current.fault, current.now.state.number.isdecimal()) == ("", True)

    def test_a_broken_charter_leaves_the_last_good_state_and_says_so(self, here: Path) -> None:
        app = app_of(here)
        file = here / "charter.yaml"
        text = file.read_text()
        file.write_text(text.replace("builds-on: [surveyor]", "builds-on: [survayor]"))
        app.current.look()
        assert post(app, "evaluation", question("dara", "photo.upload", "photo-wall")).data == {"decision": True}
        ready = asked(app, "GET", "/ready")
        assert (ready.status, ready.body) == (503, b"faulty")  # one word to whoever has no token
        assert asked(app, "GET", "/live").status == 200
        assert "ask_above_reload_faults_total 1.0" in asked(app, "GET", "/metrics").body.decode()
        file.write_text(text)
        app.current.look()
        assert asked(app, "GET", "/ready").status == 200

    @pytest.mark.parametrize("what", ["by hand", "by command", "in postgresql"])
    def test_it_is_told_of_a_change_and_need_not_look_for_it(
        self, here: Path, what: str, request: pytest.FixtureRequest
    ) -> None:
        url = request.getfixturevalue("postgresql") if what == "in postgresql" else None
        register = fresh_database(url, "told") if url else None
        Community.open(here, register=register).plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
        current = Current(Folder(here, register), Pages(b"secret"), every=3600)

        async def seen() -> None:
            looking = asyncio.create_task(current.look_on())
            await asyncio.sleep(0.6)
            before = current.now.state.number
            if what == "by hand":
                charter = here / "charter.yaml"
                charter.write_text(charter.read_text().replace("title: Notices", "title: Notes"))
            else:
                edit = MemberAdd("lou", {"name": "Lou Reed"})
                await asyncio.to_thread(lambda: Community.open(here, register=register).plan(edit).apply())
            await asyncio.to_thread(until, lambda: current.now.state.number != before)
            looking.cancel()

        asyncio.run(seen())
        community = current.now.state.community
        assert community.place("notices").title == ("Notes" if what == "by hand" else "Notices")
        assert ("lou" in community.register.members) is (what != "by hand")

    @pytest.mark.slow
    @pytest.mark.parametrize("reason", [KeyError("nobody thought of this"), OSError("the disk"), StoreError("busy")])
    def test_a_look_that_fails_for_whatever_reason_is_not_the_last_and_the_next_comes_soon(
        self, here: Path, reason: Exception, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
    ) -> None:
        Community.open(here).plan(MemberAdd("ida", {"name": "Ida Reed"})).apply()
        source, failed = Folder(here), list[int]()
        current, newer = Current(source, Pages(b"secret"), every=3600), source.newer

        def odd(known: Any) -> Any:
            if len(failed) < 3:
                failed.append(1)
                raise reason
            return newer(known)

        monkeypatch.setattr(source, "newer", odd)

        async def seen() -> None:
            looking = asyncio.create_task(current.look_on())
            before = current.now.state.number
            await asyncio.to_thread(lambda: Community.open(here).plan(MemberAdd("lou", {"name": "Lou Reed"})).apply())
            await asyncio.to_thread(until, lambda: current.now.state.number != before)
            looking.cancel()

        asyncio.run(seen())
        assert "lou" in current.now.state.community.register.members
        told = [record.getMessage() for record in caplog.records]
        odd_ones = 3 if isinstance(reason, KeyError) else 0
        assert (len(failed), told.count("a fault of the service itself")) == (3, odd_ones)

    def test_what_has_changed_since_a_state(self, here: Path) -> None:
        run("member", "note", "tove", "begin", "--yes", cwd=here)
        app = app_of(here)
        run("assign", "surveyor", "tove", "--yes", cwd=here)
        run("rank", "grant", "host", "kit.lend", "--yes", cwd=here)
        app.current.look()
        found = asked(app, "GET", "/changes?since=2").data
        assert (found["state"], found["edited"]) == ("4", False)
        assert [(each["members"], each["charter"]) for each in found["changes"]] == [(["tove"], False), ([], True)]
        assert asked(app, "GET", "/changes?since=9").status == 400
        assert asked(app, "GET", "/changes?since=x").status == 400

    @pytest.mark.parametrize("seed", seeds(4))
    def test_answers_kept_of_members_it_does_not_name_still_hold(self, seed: int, tmp_path: Path) -> None:
        """But those on who may assign a rank with a limit: there it counts how many have it."""
        rng = Random(seed)
        made, counts = generate(rng), 0
        for name, text in made.texts().items():
            (tmp_path / name).write_text(text)
        Community.open(tmp_path).plan(MemberAdd("zed", {"name": "Zed"})).apply()
        app = app_of(tmp_path)
        for _ in range(6):
            before = Community.open(tmp_path)
            since = before.journal()[-1].number
            with suppress(AskAboveError):
                before.plan(of_somebody(rng, before), why="Try").apply(force=True)
            app.current.look()
            changes = asked(app, "GET", f"/changes?since={since}").data["changes"]
            touched = {key for each in changes for key in each["members"]}
            if not changes or any(each["charter"] for each in changes):
                continue
            counts += 1
            was, now = (all_that_is_so(c, touched) for c in (before, Community.open(tmp_path)))
            assert was == now, (seed, touched, was ^ now)
        assert counts


# -- closed by default


class TestClosed:
    ASKED = question("dara", "photo.upload", "photo-wall")

    @pytest.mark.parametrize(
        "more", [{"client": "192.0.2.7"}, {"host": "river.example"}, {"host": "127.0.0.1.river.example"}]
    )
    def test_without_any_token_the_machine_itself_alone_is_served(self, here: Path, more: dict[str, str]) -> None:
        app = app_of(here)
        assert post(app, "evaluation", self.ASKED).status == 200
        assert post(app, "evaluation", self.ASKED, client="::1", host="[::1]:8423").status == 200
        assert post(app, "evaluation", self.ASKED, **more).status == 403

    def test_with_a_token_whoever_has_it_is_served_until_it_is_taken_back_or_ends(self, here: Path) -> None:
        home = Community.open(here).home
        secret = add_token(home, "forum")
        ended, lasting = add_token(home, "old", until="2020-01-01"), add_token(home, "new", until="2120-01-01")
        app = app_of(here)
        bearer = {"authorization": f"Bearer {secret}"}
        assert post(app, "evaluation", self.ASKED).status == 401
        assert post(app, "evaluation", self.ASKED, **bearer, client="192.0.2.7", host="river.example").status == 200
        assert post(app, "evaluation", self.ASKED, authorization=f"Bearer {ended}").status == 401
        assert post(app, "evaluation", self.ASKED, authorization=f"Bearer {lasting}").status == 200
        for wrong in ("Bearer x", f"Basic {secret}", "Bearer ", f"Bearer {secret}x", f"Bearer {secret[:-1]}"):
            assert post(app, "evaluation", self.ASKED, authorization=wrong).status == 401
        remove_token(home, "forum")
        app.current.look()
        assert post(app, "evaluation", self.ASKED, **bearer).status == 401
        assert asked(app, "GET", "/live", client="192.0.2.7").status == 200

    def test_only_the_digest_of_a_token_is_kept_and_the_journal_notes_it(self, here: Path) -> None:
        said = run("token", "add", "forum", "--as", "ada", "--may", "provision", "--until", "2030-01-31", cwd=here)
        secret = next(line.strip() for line in said.stdout.splitlines() if line.strip().startswith("aa_"))
        for file in here.rglob("*"):
            assert not file.is_file() or secret.encode() not in file.read_bytes()
        listed = json.loads(run("token", "list", "--format", "json", cwd=here).stdout)
        assert (listed[0]["name"], listed[0]["member"], listed[0]["may"]) == ("forum", "ada", "provision")
        assert listed[0]["until"] == "2030-02-01T00:00:00+00:00"
        assert "make the token forum for Ada Marsh, which may provision" in run("journal", cwd=here).stdout
        assert "is removed" in run("token", "remove", "forum", cwd=here).stdout
        assert "Nothing" not in run("undo", "--plan", cwd=here).stdout

    def test_tokens_that_cannot_be_are_refused(self, here: Path) -> None:
        for words, said in (
            (("add", "A B"), "cannot be the name"),
            (("add", "x", "--may", "provision"), "acts as one: --as MEMBER"),
            (("add", "x", "--as", "nobody-known"), "There is no member"),
            (("remove", "x"), "There is no token 'x'"),
        ):
            done = run("token", *words, cwd=here)
            assert (done.returncode, said in done.stderr) == (2, True), done.stderr
        add_token(Community.open(here).home, "x", may=TokenMay.READ)
        assert "already" in run("token", "add", "x", cwd=here).stderr

    def test_busy_is_said_at_once(self) -> None:
        app = app_of(Community.demo(), most_at_once=1)
        app.running = 1
        reply = post(app, "evaluation", self.ASKED)
        assert (reply.status, reply.headers["retry-after"]) == (503, "1")
        assert asked(app, "GET", "/live").status == 200


# -- operated


def test_metrics_count_by_action_and_outcome_and_name_nobody(here: Path) -> None:
    app = app_of(here, decisions=here / "decisions.jsonl")
    for data in (
        question("dara", "photo.upload", "photo-wall"),
        question("dara", "post.write", "notices"),
        question("dara", "no.such", "notices"),
        question("visitor", "place.see", "notices"),
    ):
        post(app, "evaluation", data)
    text = asked(app, "GET", "/metrics").body.decode()
    assert 'ask_above_decisions_total{action="photo.upload",decision="permit"} 1.0' in text
    assert 'ask_above_decisions_total{action="post.write",decision="deny"} 1.0' in text
    assert 'ask_above_decisions_total{action="other",decision="deny"} 1.0' in text
    assert text.endswith("# EOF\n")
    assert "dara" not in text
    lines = [json.loads(line) for line in (here / "decisions.jsonl").read_text().splitlines()]
    assert [(e["member"], e["action"], e["place"], e["decision"]) for e in lines] == [
        ("dara", "photo.upload", "photo-wall", True),
        ("dara", "post.write", "notices", False),
        ("visitor", "place.see", "notices", True),
    ]
    assert all(datetime.fromisoformat(each["when"]).tzinfo for each in lines)


def test_it_can_be_mounted_in_an_application_of_one_s_own(here: Path) -> None:
    whole = Starlette(routes=[Mount("/decide", app=app_of(here))])
    path = "/decide/access/v1/evaluation"
    assert asked(whole, "POST", path, question("dara", "photo.upload", "photo-wall")).data == {"decision": True}
    assert asked(whole, "GET", "/decide/live", client="192.0.2.7").status == 200
    assert asked(whole, "GET", "/decide/ready").body == b"ready"


# -- over the wire


def may_see(client: Client) -> bool:
    return client.may("tove", "gauge.see", at="upper-gauges").allowed


class Direct(httpx.BaseTransport):
    """In the place of the network: the service itself."""

    def __init__(self, app: Any) -> None:
        self.app = app

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        reply = asked(self.app, request.method, request.url.raw_path.decode(), raw=request.read())
        return httpx.Response(reply.status, headers=reply.headers, content=reply.body)


@pytest.mark.parametrize("seed", seeds(4))
def test_the_client_answers_every_question_as_the_community_does(demo_app: Any, seed: int) -> None:
    rng, c = Random(seed), Community.demo()
    people, ranks, places = [*c.register.members], [*c.charter.ranks], [*c.charter.places]
    with Client("http://localhost", transport=Direct(demo_app)) as client:

        def same(question: str, *args: Any, **more: Any) -> None:
            mine, theirs = (getattr(one, question)(*args, **more) for one in (c, client))
            told = [(one.allowed, one.reason, str(one)) for one in (theirs, mine)]
            assert told[0] == told[1], (question, args, more)

        for _ in range(12):
            actor = rng.choice([*people, *(f"rank:{key}" for key in ranks)])
            who, rank, at = rng.choice(people), rng.choice(ranks), rng.choice([*places, "site"])
            when = rng.choice([None, datetime(2026, 3, 1, 12, tzinfo=UTC)])
            word, using = rng.choice(c.charter.catalogue.keys), rng.choice([None, "member.mute", "member.suspend"])
            same("may", rng.choice([actor, "visitor"]), word, at=at, author=rng.choice([None, who]), when=when)
            same("may_assign", actor, rank, to=rng.choice([None, who]), at=at, when=when)
            same("may_unassign", actor, rank, of=who, at=at, when=when)
            same("may_manage", actor, rank, when=when)
            same("may_call", actor, rank, at=at, when=when)
            same("may_moderate", actor, rng.choice([who, f"rank:{rank}"]), at=at, using=using, when=when)
            assert client.where(who, word) == sorted(c.where(who, word))
            assert client.for_the_user(who, word, at=at).startswith(
                "You may do" if client.may(who, word, at=at) else "You may not"
            )
            assert [*client.who(word, at=at)["member"]] == sorted(c.who(word, at=at)["member"])
            frame = pd.DataFrame({"member": [who] * 2, "capability": [word] * 2, "place": [at, "site"]})
            assert client.may_many(frame).tolist() == c.may_many(frame).tolist()


@pytest.mark.slow
class TestOverTheWire:
    def test_a_real_server_answers_the_client_as_the_community_does(self, here: Path) -> None:
        c = Community.open(here)
        with server("--decisions", "asked.jsonl", cwd=here) as url, Client(url) as client:
            for who, name, place in (("dara", "post.write", "notices"), ("rank:warden", "post.write", "notices")):
                mine, theirs = c.may(who, name, at=place), client.may(who, name, at=place)
                assert (theirs.allowed, theirs.reason, str(theirs)) == (mine.allowed, mine.reason, str(mine))
            assert client.where("petra", "reading.certify") == ["lower-gauges", "upper-gauges"]
            assert list(client.who("moderate", "tomas", at="field")["member"]) == ["ada", "birgit", "ines", "olaf"]
            frame = pd.DataFrame(
                {"member": ["dara", "ines"], "capability": ["post.write"] * 2, "place": ["notices"] * 2}
            )
            assert client.may_many(frame).tolist() == c.may_many(frame).tolist()
            with pytest.raises(UnknownNameError, match=r"post\.write"):
                client.may("dara", "post.wriet", at="notices")
            with pytest.raises(QuestionError, match="unassign"):
                client.may("dara", "unassign", at="notices")
            run("assign", "surveyor", "tove", "--yes", cwd=here)
            until(lambda: client.may("tove", "gauge.see", at="upper-gauges").allowed)
            assert client.state == "2"
            assert client.changes("1")["changes"][0]["members"] == ["tove"]
        assert '"action":"post.write"' in (here / "asked.jsonl").read_text()
        with pytest.raises(ServiceError, match="cannot be asked"):
            Client("http://127.0.0.1:9").may("dara", "post.write")

    def test_workers_of_one_machine_share_pages_counts_and_states(self, here: Path) -> None:
        with server("--workers", "2", "--quiet", cwd=here) as url, httpx.Client(base_url=url) as http:
            data = {**TestPages.ASKED, "page": {"limit": 5, "token": ""}}
            met: list[str] = []
            while True:
                page = http.post("/access/v1/search/subject", json=data, headers={"Connection": "close"}).json()
                met += [each["id"] for each in page["results"]]
                data["page"]["token"] = page["page"]["next_token"]
                if not data["page"]["token"]:
                    break
            assert len(met) == len(set(met)) > 50
            text = http.get("/metrics", headers={"Connection": "close"}).text
            count = re.search(r'ask_above_requests_total{path="/access/v1/search/subject",status="200"} (\d+)', text)
            assert count is not None
            assert int(count[1]) == -(-len(met) // 5)

    def test_a_body_that_does_not_come_is_not_waited_for(self, here: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        import socket

        monkeypatch.setattr(SlowOnes.__init__, "__defaults__", (0.6,))
        port = free_port()
        served = uvicorn.Server(uvicorn.Config(app_of(here), port=port, log_level="error"))
        thread = Thread(target=served.run)
        thread.start()
        until(lambda: served.started)
        try:
            with socket.create_connection(("127.0.0.1", port), timeout=60) as one:
                one.sendall(
                    b"POST /access/v1/evaluation HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n"
                    b"Content-Length: 100\r\n\r\n{"
                )
                assert b" 408 " in one.recv(4000).split(b"\r\n")[0]
        finally:
            served.should_exit = True
            thread.join()

    def test_instances_that_share_a_database_alone_answer_from_states_that_were(
        self, here: Path, postgresql: str
    ) -> None:
        register = fresh_database(postgresql, "served")
        if register:
            run("member", "note", "tove", "begin", "--yes", "--register", register, cwd=here)
            elsewhere = here.parent / "elsewhere"
            elsewhere.mkdir()
            with (
                server("--register", register, "--quiet", cwd=here) as one,
                server("--register", register, "--quiet", cwd=elsewhere) as two,
                Client(one) as near,
                Client(two) as far,
            ):
                assert (
                    far.may("dara", "post.write", at="notices").reason
                    == near.may("dara", "post.write", at="notices").reason
                )
                for n in range(4):
                    word = ("assign", "unassign")[n % 2]
                    run(word, "surveyor", "tove", "--yes", "--register", register, cwd=here)
                    for client in (near, far):
                        wanted = n % 2 == 0
                        until(lambda c=client, w=wanted: may_see(c) is w)
                run("rank", "grant", "host", "kit.lend", "--yes", "--register", register, cwd=here)
                until(lambda: far.may("rank:host", "kit.lend").allowed)
