"""A service one can leave alone: closed whatever happens, stale told and bounded, held down by nobody."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import socket
import ssl
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from random import Random
from threading import Thread
from typing import Any
from unittest import mock

import pytest
import uvicorn
from scim2_models import SearchRequest

from ask_above import Community, StoreError
from ask_above.change import MemberAdd, MemberSet, MemberStatus
from ask_above.people.register import Member
from ask_above.serve import running
from ask_above.serve.current import Bounds
from ask_above.serve.provisioning import _FULL, RegisterStorage
from ask_above.serve.resources import Email, RegisterUser, User, check_of
from ask_above.serve.service import template_of
from ask_above.store.database import Store
from ask_above.workspace.tokens import TokenMay, add_token, remove_token
from asking import app_of, asked, free_port, post, server, until
from commands import run
from conftest import DEMO
from databases import fresh_database
from test_provisioning import Provider

QUESTION: dict[str, Any] = {
    "subject": {"type": "member", "id": "dara"},
    "action": {"name": "photo.upload"},
    "resource": {"type": "place", "id": "photo-wall"},
}
SEARCH: dict[str, Any] = {**QUESTION, "subject": {"type": "member"}}


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    return tmp_path / "river"


@pytest.fixture
def idp(here: Path) -> Provider:
    return Provider(here)


def bearer(secret: str) -> dict[str, Any]:
    return {"authorization": f"Bearer {secret}"}


class TestClosedWhateverHappens:
    @pytest.mark.parametrize("gone", ["the folder", "the database and its mark", "the files in it"])
    @pytest.mark.slow
    def test_where_tokens_cannot_be_read_they_stay_as_they_were(self, here: Path, gone: str) -> None:
        secret = add_token(Community.open(here).home, "forum")
        app = app_of(here)
        if gone == "the folder":
            here.rename(here.parent / "elsewhere")
        elif gone == "the files in it":
            for file in here.iterdir():
                file.unlink()
        else:
            for file in (*here.glob("register.db*"), here / ".ask-above.json"):
                file.unlink()
        app.current.look()
        assert post(app, "evaluation", QUESTION).status == 401
        assert post(app, "evaluation", QUESTION, **bearer("aa_x")).status == 401
        assert post(app, "evaluation", QUESTION, **bearer(secret)).data == {"decision": True}
        assert asked(app, "GET", "/ready").status == 503

    def test_who_has_had_a_token_stays_closed_without_one(self, here: Path) -> None:
        app = app_of(here)
        assert post(app, "evaluation", QUESTION).status == 200
        home = Community.open(here).home
        add_token(home, "forum")
        app.current.look()
        assert post(app, "evaluation", QUESTION).status == 401
        remove_token(home, "forum")
        app.current.look()
        assert post(app, "evaluation", QUESTION).status == 401

    def test_it_starts_without_a_token_only_where_that_is_said_and_on_the_loopback_alone(self, here: Path) -> None:
        port = ("--port", str(free_port()))
        done = run("serve", *port, cwd=here)
        assert (done.returncode, "ask-above token add NAME" in done.stderr) == (2, True)
        assert "ask-above serve --open" in " ".join(done.stderr.split())
        assert run("serve", "--open", "--host", "0.0.0.0", *port, cwd=here).returncode == 2  # noqa: S104
        add_token(Community.open(here).home, "forum")
        done = run("serve", "--open", *port, cwd=here)
        assert (done.returncode, "leave out --open" in done.stderr) == (2, True)

    @pytest.mark.parametrize("workers", ["1", "2"])
    @pytest.mark.slow
    def test_a_broken_charter_ends_it_at_once_with_its_message(self, here: Path, workers: str) -> None:
        add_token(Community.open(here).home, "forum")
        (here / "charter.yaml").write_text("charter: 1\nkey: [\n")
        done = subprocess.run(
            [sys.executable, "-m", "ask_above", "serve", "--workers", workers, "--port", str(free_port())],
            cwd=here, capture_output=True, timeout=300, text=True, check=False,
        )  # fmt: skip
        assert (done.returncode, "charter.yaml, line" in done.stderr) == (2, True)


class TestStaleIsToldAndBounded:
    def test_decisions_go_on_marked_and_then_they_are_refused(
        self, here: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        secret = add_token(Community.open(here).home, "forum")
        app = app_of(here, bounds=Bounds(stale_after=5, serve_stale=60))
        monkeypatch.setattr(app.current.source, "newer", mock.Mock(side_effect=StoreError("the database hangs")))
        app.current.look()
        assert "x-ask-above-stale" not in post(app, "evaluation", QUESTION, **bearer(secret)).headers
        app.current.fault = ""
        app.current.looked -= 30
        reply = post(app, "evaluation", QUESTION, **bearer(secret))
        assert (reply.data, int(reply.headers["x-ask-above-stale"]) >= 30) == ({"decision": True}, True)
        assert (asked(app, "GET", "/ready").status, asked(app, "GET", "/ready").body) == (503, b"stale")
        app.current.looked_at -= 30
        text = asked(app, "GET", "/metrics", **bearer(secret)).body.decode()
        found = re.search(r"^ask_above_stale_seconds ([\d.]+)", text, re.MULTILINE)
        assert found is not None
        assert float(found[1]) >= 30
        app.current.looked -= 60
        reply = post(app, "evaluation", QUESTION, **bearer(secret))
        assert (reply.status, reply.headers["retry-after"]) == (503, "10")
        assert asked(app, "GET", "/live").status == 200

    def test_what_ready_says_to_a_stranger_is_one_word(self, here: Path) -> None:
        secret = add_token(Community.open(here).home, "forum")
        app = app_of(here)
        assert asked(app, "GET", "/ready").body == b"ready"
        file = here / "charter.yaml"
        file.write_text(file.read_text().replace("builds-on: [surveyor]", "builds-on: [survayor, nobody, none]"))
        app.current.look()
        assert asked(app, "GET", "/ready").body == b"faulty"
        fault = asked(app, "GET", "/ready", **bearer(secret)).data["fault"]
        assert re.fullmatch(r"charter\.yaml line \d+: there is no rank 'survayor'.*, and 2 more", fault)

    @pytest.mark.slow
    def test_a_database_that_hangs_is_given_up(self, postgresql: str) -> None:
        store = Store(fresh_database(postgresql, "hangs"), limit=2)
        began = time.monotonic()
        with pytest.raises(StoreError, match="cannot be read"), store.reading() as connection:
            connection.exec_driver_sql("SELECT pg_sleep(300)")
        assert time.monotonic() - began < 200
        with socket.create_server(("127.0.0.1", 0)) as deaf:
            store = Store(f"postgresql://x@127.0.0.1:{deaf.getsockname()[1]}/x", limit=2)
            with pytest.raises(StoreError):
                store.schema()

    def test_an_edit_by_hand_that_undoes_a_change_is_logged(self, here: Path, caplog: pytest.LogCaptureFixture) -> None:
        Community.open(here).plan(MemberStatus("tove", "locked")).apply()
        app = app_of(here)
        file = here / "members.csv"
        file.write_text(file.read_text().replace(",locked,", ",active,"))
        with caplog.at_level("WARNING"):
            app.current.look()
        assert any("undoes change 2" in getattr(record, "undone", "") for record in caplog.records)


class TestProvisioning:
    def test_a_search_by_post_is_a_search(self, idp: Provider) -> None:
        idp.add("ida@river.example", displayName="Ida Reed")
        body = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],
            "filter": 'displayName sw "Ida"',
            "attributes": ["userName"],
            "startIndex": 1,
            "count": 5,
        }
        for path in ("/Users/.search", "/.search"):
            found = idp.send("POST", path, body).data
            assert [each["userName"] for each in found["Resources"]] == ["ida@river.example"], path
            assert "displayName" not in found["Resources"][0]

    @pytest.mark.slow
    def test_active_is_true_or_false_and_nothing_else(self, idp: Provider) -> None:
        idp.add("ida@river.example")
        for said in ("yes", "1", "True ", 0, 1, None, "", "falsch"):
            reply = idp.patch("/Users/ida", {"op": "replace", "path": "active", "value": said})
            assert (reply.status, reply.data["scimType"]) == (400, "invalidValue"), said
            reply = idp.patch("/Users/ida", {"op": "replace", "value": {"active": said}})
            assert reply.status == 400, said
        assert idp.community.member("ida").status == "active"
        for text, status in (("False", "locked"), ("TRUE", "active"), (False, "locked"), ("true", "active")):
            idp.patch("/Users/ida", {"op": "replace", "path": "active", "value": text})
            assert idp.community.member("ida").status == status

    @pytest.mark.parametrize("body", [{}, {"Operations": []}, {"Operations": None}])
    def test_a_patch_without_operations_is_an_error(self, idp: Provider, body: dict[str, Any]) -> None:
        idp.add("ida@river.example")
        schemas = ["urn:ietf:params:scim:api:messages:2.0:PatchOp"]
        assert idp.send("PATCH", "/Users/ida", {"schemas": schemas, **body}).status == 400

    def test_errors_are_those_of_the_protocol(self, here: Path, idp: Provider) -> None:
        reader = add_token(Community.open(here).home, "reader")
        idp.app.current.look()
        for token, status in (("aa_x", 401), (reader, 403)):
            reply = asked(idp.app, "GET", "/scim/v2/Users", **bearer(token))
            assert (reply.status, reply.headers["content-type"]) == (status, "application/scim+json")
            assert (reply.data["schemas"], reply.data["status"]) == (
                ["urn:ietf:params:scim:api:messages:2.0:Error"],
                str(status),
            )

    def test_a_fault_of_the_database_is_no_refusal_and_says_nothing_of_it(
        self, idp: Provider, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        fault = StoreError("connection to server at 10.1.2.3 failed for user keeper")
        monkeypatch.setattr(Store, "writing", mock.Mock(side_effect=fault))
        reply = idp.add("ida@river.example")
        assert (reply.status, reply.headers["retry-after"], b"10.1.2.3" in reply.body) == (503, "5", False)
        assert "ida" not in idp.community.register.members

    @pytest.mark.slow
    def test_a_conflict_is_tried_again_and_a_precondition_is_held(self, idp: Provider) -> None:
        idp.add("ida@river.example")
        version = idp.send("GET", "/Users/ida").headers["etag"]
        real, tried = RegisterStorage.update, list[int]()

        def beside(self: RegisterStorage, *given: Any, **words: Any) -> Any:
            if not tried:  # somebody else is faster, between reading and writing
                tried.append(1)
                Community.open(idp.folder).plan(MemberSet("ida", {"name": "Ida Reed"})).apply()
                self.current.look()
            return real(self, *given, **words)

        with mock.patch.object(RegisterStorage, "update", beside):
            reply = idp.patch("/Users/ida", {"op": "replace", "path": "active", "value": False})
        assert reply.status == 200
        member = idp.community.member("ida")
        assert (member.name, member.status) == ("Ida Reed", "locked")  # nothing of either is lost
        held = {"op": "replace", "path": "active", "value": True}
        assert idp.patch("/Users/ida", held, if_match=version).status == 412

    def test_who_is_there_already_is_a_conflict_by_name_number_and_address(self, idp: Provider) -> None:
        idp.add("ida@river.example", externalId="7", emails=[{"value": "i@river.example"}])
        for fields in ({"externalId": "7"}, {"emails": [{"value": "I@River.example"}]}):
            reply = idp.add("other@river.example", **fields)
            assert (reply.status, reply.data["scimType"]) == (409, "uniqueness")
        assert idp.add("tove").status == 409  # a user name against keys too
        found = idp.send("GET", "/Users?filter=userName%20eq%20%22i@river.example%22").data
        assert found["totalResults"] == 0  # never an address

    @pytest.mark.slow
    def test_filters_say_what_the_protocols_library_says(self) -> None:
        rng = Random(4)
        words = ["ida", "Ida Reed", "IDA@river.example", "x", "", "river"]
        members = [
            Member(f"m{n}", rng.choice(words), rng.choice(words), user_name=rng.choice(words),
                   external_id=rng.choice(words), status=rng.choice(["active", "locked", "pending"]))
            for n in range(40)
        ]  # fmt: skip
        names = ["userName", "displayName", "emails.value", "id", "externalId"]
        ways = ["eq", "ne", "sw", "co", "ew", "gt", "ge", "lt", "le"]
        for _ in range(300):
            terms = [
                rng.choice([
                    f'{rng.choice(names)} {rng.choice(ways)} "{rng.choice(words[:4])}"',
                    f'emails[value {rng.choice(ways)} "{rng.choice(words[:4])}"]',
                    f'emails[not (value {rng.choice(ways)} "{rng.choice(words[:4])}") or value pr]',
                    f"{rng.choice(names)} pr",
                    f"active eq {rng.choice(['true', 'false'])}",
                ])
                for _ in range(rng.randint(1, 3))
            ]  # fmt: skip
            text = f" {rng.choice(['and', 'or'])} ".join(terms)
            text = f"not ({text})" if rng.random() < 0.2 else text
            asked_for = SearchRequest[User[RegisterUser]].model_validate({"filter": text}).filter
            assert asked_for is not None
            quick = check_of(asked_for.ast)
            assert quick is not None
            for member in members:
                resource = _FULL(
                    id=member.key, user_name=member.user_name or member.key, display_name=member.name or None,
                    emails=[Email(value=member.email, type="work")] if member.email else None,
                    active=member.status not in ("locked", "retired"), external_id=member.external_id or None,
                )  # fmt: skip
                assert quick(member) == asked_for.match(resource), (text, member)

    @pytest.mark.slow
    def test_what_one_worker_has_written_every_worker_reads(self, here: Path) -> None:
        import httpx

        secret = add_token(Community.open(here).home, "idp", member="ines", may=TokenMay.PROVISION)
        with server("--workers", "3", "--quiet", cwd=here) as url:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # for all of them: a new one reads a file of certificates
            for n in range(6):
                with httpx.Client(base_url=f"{url}/scim/v2", headers=bearer(secret), verify=context) as http:
                    user = {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": f"p{n}@x.example"}
                    assert http.post("/Users", json=user).status_code == 201
                for _ in range(4):
                    with httpx.Client(base_url=f"{url}/scim/v2", headers=bearer(secret), verify=context) as http:
                        assert http.get(f"/Users/p{n}").status_code == 200
                        patch = {"op": "replace", "path": "active", "value": bool(n % 2)}
                        body = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [patch]}
                        assert http.patch(f"/Users/p{n}", json=body).status_code in (200, 204)
        assert len(Community.open(here).register.members) == 66


@contextmanager
def served(app: Any, **given: Any) -> Iterator[int]:
    """Run an application with the protocol that the service has, in a thread."""
    port = free_port()
    protocol = "ask_above.serve.running:LimitedProtocol"
    one = uvicorn.Server(uvicorn.Config(app, port=port, log_level="error", http=protocol, ws="none", **given))
    thread = Thread(target=one.run)
    thread.start()
    until(lambda: one.started)
    try:
        yield port
    finally:
        one.should_exit = True
        thread.join()


def says(port: int, *pieces: bytes) -> bytes:
    with socket.create_connection(("127.0.0.1", port), timeout=60) as one:
        for piece in pieces:
            one.sendall(piece)
        found = b""
        while not found.endswith(b"\r\n\r\n") and (more := one.recv(65536)):
            found += more
            if b"content-length" in found:
                break
        return found


def test_who_asks_is_who_is_connected_and_no_header_says_otherwise(here: Path) -> None:
    """A header may be written by anybody: with it somebody far away would pass for this machine, or the other way."""
    given: dict[str, Any] = {}
    keep = mock.patch("uvicorn.run", lambda _, **words: given.update(words))
    with keep, mock.patch("signal.signal"), mock.patch.dict(os.environ):
        running.run(running.Settings(community=str(here), open_here=True))
    with served(app_of(here), proxy_headers=given["proxy_headers"]) as port:
        head = b"GET /changes HTTP/1.1\r\nHost: localhost\r\nX-Forwarded-For: 192.0.2.7\r\n\r\n"
        assert b" 200 " in says(port, head)


class TestHeldDownByNobody:
    def test_a_head_that_never_ends_and_a_url_too_long_are_answered_and_closed(self, here: Path) -> None:
        with served(app_of(here)) as port:
            try:
                found = says(port, b"GET /live HTTP/1.1\r\nHost: localhost\r\n", b"x: y\r\n" * 40_000)
            except (ConnectionResetError, BrokenPipeError):
                found = b" 431 "
            assert b" 431 " in found
            assert b" 414 " in says(port, b"GET /" + b"x" * 20_000 + b" HTTP/1.1\r\nHost: localhost\r\n\r\n")
            assert b" 200 " in says(port, b"GET /live HTTP/1.1\r\nHost: localhost\r\n\r\n")

    @pytest.mark.parametrize("piece", [b"", b"GET /live HT", b"GET /live HTTP/1.1\r\nHost: x\r\n"])
    @pytest.mark.slow
    def test_what_is_never_asked_whole_is_not_waited_for(
        self, here: Path, piece: bytes, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr(running, "SECONDS_TO_ASK", 0.4)
        with served(app_of(here)) as port, socket.create_connection(("127.0.0.1", port), timeout=60) as one:
            one.sendall(piece)
            assert b" 408 " in one.recv(4000)
            assert one.recv(10) == b""

    def test_one_address_has_no_more_than_its_share_and_a_proxy_all(
        self, here: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr(running, "MOST_PER_ADDRESS", 3)
        with served(app_of(here)) as port:
            many = [socket.create_connection(("127.0.0.1", port), timeout=60) for _ in range(4)]
            assert b" 503 " in many[3].recv(4000)
            for one in many:
                one.close()
            until(lambda: not running.LimitedProtocol.everybody)
            monkeypatch.setenv(running.PROXY, "127.0.0.1")
            many = [socket.create_connection(("127.0.0.1", port), timeout=60) for _ in range(6)]
            for one in many:
                one.sendall(b"GET /live HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
                assert b" 200 " in one.recv(4000)
                one.close()

    def test_searches_beyond_what_there_are_workers_for_are_turned_away(
        self, here: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        app = app_of(here)
        assert post(app, "search/subject", SEARCH).status == 200
        pool = app.direct["/access/v1/search/subject"].service.searches
        monkeypatch.setattr(pool, "_running", pool._most)
        reply = post(app, "search/subject", SEARCH)
        assert (reply.status, reply.headers["retry-after"]) == (503, "1")
        assert post(app, "evaluation", QUESTION).status == 200

    def test_nothing_that_is_sent_is_a_fault_of_its_own(self, here: Path) -> None:
        app = app_of(here)
        for since in ("9" * 5_000, "٣", "-1", "1e5", ""):
            assert asked(app, "GET", f"/changes?since={since}").status in (200, 400)
        small = {**QUESTION, "context": {"time": "2026-11-26t18:30:00z"}}
        assert post(app, "evaluation", small).data == {"decision": True}


class TestSeenFromOutside:
    def test_a_path_is_named_without_what_is_in_it(self) -> None:
        assert template_of("/scim/v2/Groups/rank:host") == "/scim/v2/Groups/{id}"
        assert template_of("/scim/v2/Users/.search") == "/scim/v2/Users/.search"
        assert template_of("/scim/v2/Users") == "/scim/v2/Users"
        assert template_of("/scim/v2/../../etc") == "other"

    def test_a_request_is_logged_with_who_asked_from_where(
        self, idp: Provider, caplog: pytest.LogCaptureFixture
    ) -> None:
        with caplog.at_level("INFO", "ask_above.serve"):
            idp.send("GET", "/Users/tove")
            asked(idp.app, "GET", "/scim/v2/Users/tove", client="192.0.2.7", authorization="Bearer aa_x")
        known, refused = [record for record in caplog.records if record.getMessage() == "request"][-2:]
        assert (known.token, known.path, known.status) == ("idp-ines", "/scim/v2/Users/{id}", 200)  # type: ignore[attr-defined]
        assert (refused.token, refused.client, refused.status) == (None, "192.0.2.7", 401)  # type: ignore[attr-defined]
        assert "tove" not in str([record.__dict__ for record in caplog.records if record.getMessage() == "request"])

    def test_a_decision_that_cannot_be_recorded_is_counted_and_told(
        self, here: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]
    ) -> None:
        file = tmp_path / "asked.jsonl"
        app = app_of(here, decisions=file)
        post(app, "evaluation", QUESTION)
        assert stat.S_IMODE(file.stat().st_mode) == 0o600
        record = app.direct["/access/v1/evaluation"].service.record
        with mock.patch.object(record.handler.stream, "write", side_effect=OSError(28, "No space left on device")):
            for _ in range(3):
                assert post(app, "evaluation", QUESTION).data == {"decision": True}
            assert asked(app, "GET", "/ready").body == b"unrecorded"
        assert "ask_above_decisions_unrecorded_total 3.0" in asked(app, "GET", "/metrics").body.decode()
        assert "Traceback" not in capfd.readouterr().err
        post(app, "evaluation", QUESTION)
        assert asked(app, "GET", "/ready").body == b"ready"
        assert len(file.read_text().splitlines()) == 2

    @pytest.mark.slow
    def test_with_workers_the_metrics_are_of_now_and_nothing_stays_behind(self, here: Path, tmp_path: Path) -> None:
        import httpx

        secret = add_token(Community.open(here).home, "forum")
        scratch = tmp_path / "scratch"
        scratch.mkdir()
        with server("--workers", "2", cwd=here, TMPDIR=str(scratch)) as url:

            def metric(name: str) -> float:
                text = httpx.get(f"{url}/metrics", headers={**bearer(secret), "Connection": "close"}).text
                found = re.search(rf"^{name}(?:{{[^}}]*}})? ([\d.e+]+)$", text, re.MULTILINE)
                return float(found[1]) if found else -1

            until(lambda: metric("ask_above_state") == 2)
            Community.open(here).plan(MemberAdd("ida")).apply()
            until(lambda: all(metric("ask_above_state") == 3 for _ in range(6)))
            assert all(0 <= metric("ask_above_stale_seconds") < 60 for _ in range(6))
        assert not list(scratch.glob("ask-above-metrics-*"))
        lines = [
            json.loads(line) for line in next(here.glob("server-*.log")).read_text().splitlines() if line[:1] == "{"
        ]
        assert any(line.get("path") == "/metrics" and line.get("token") == "forum" for line in lines)

    @pytest.mark.slow
    def test_on_sighup_it_reads_again(self, here: Path) -> None:
        import httpx

        secret = add_token(Community.open(here).home, "forum")
        port = free_port()
        command = [sys.executable, "-m", "ask_above", "serve", "--port", str(port), "--quiet"]
        process = subprocess.Popen(command, cwd=here, stderr=subprocess.DEVNULL)
        try:
            ready: Callable[[], bool] = lambda: socket.socket().connect_ex(("127.0.0.1", port)) == 0  # noqa: E731
            until(ready)
            process.send_signal(signal.SIGHUP)
            time.sleep(0.5)
            assert process.poll() is None
            assert httpx.get(f"http://127.0.0.1:{port}/ready", headers=bearer(secret)).json()["ready"] is True
        finally:
            process.terminate()
            process.wait(20)


def test_a_driver_that_is_missing_says_which_extra_to_install(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "psycopg", None)
    with pytest.raises(StoreError, match=r"ask-above\[postgresql\]"):
        Store("postgresql://keeper@host/river")


@pytest.mark.slow
def test_the_steps_of_the_container_file_make_a_service_that_answers(tmp_path: Path) -> None:
    """Where nothing builds containers its steps are run as a script: install what it installs, start what it starts."""
    text = (Path(__file__).parent.parent / "examples" / "serving" / "Containerfile").read_text()
    extras = re.search(r'pip install --no-cache-dir "/src\[([a-z,]+)\]"', text)
    assert extras is not None
    assert set(extras[1].split(",")) == {"serve", "postgresql"}
    started = re.search(r"^CMD (\[.*\])$", text, re.MULTILINE)
    assert started is not None
    words = json.loads(started[1])
    shutil.copytree(DEMO, tmp_path / "community")
    secret = add_token(Community.open(tmp_path / "community").home, "forum")
    said = dict(pair.split("=", 1) for line in re.findall(r"^ENV (.*)$", text, re.MULTILINE) for pair in line.split())
    port = free_port()
    env = {
        **os.environ,
        **said,
        "ASK_ABOVE_COMMUNITY": str(tmp_path / "community"),
        "ASK_ABOVE_SERVE_HOST": "127.0.0.1",
    }
    process = subprocess.Popen(
        [sys.executable, "-m", "ask_above", *words[1:]], env={**env, "ASK_ABOVE_SERVE_PORT": str(port)},
        cwd=tempfile.mkdtemp(dir=tmp_path), stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        import httpx

        def answers() -> bool:
            with socket.socket() as one:
                return one.connect_ex(("127.0.0.1", port)) == 0

        until(answers)
        reply = httpx.post(f"http://127.0.0.1:{port}/access/v1/evaluation", json=QUESTION, headers=bearer(secret))
        assert reply.json() == {"decision": True}
    finally:
        process.terminate()
        process.wait(20)


NGINX = """worker_processes 1; daemon off; pid {folder}/pid; error_log {folder}/error.log;
events {{ worker_connections 64; }}
http {{ access_log off; client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
  uwsgi_temp_path {folder}; scgi_temp_path {folder};
  server {{ listen 127.0.0.1:{port}; location / {{ {location} }} }} }}
"""
DOCUMENTED = (Path(__file__).parent.parent / "docs" / "serving.md").read_text()


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("nginx") is None, reason="nginx is not installed")
@pytest.mark.parametrize("bare", [True, False], ids=["a bare proxy_pass", "the lines of the documents"])
def test_behind_nginx_nobody_is_answered_without_a_token(here: Path, tmp_path: Path, bare: bool) -> None:
    import httpx

    secret = add_token(Community.open(here).home, "forum")
    lines = re.search(r"location / \{\n(.*?)\n\}", DOCUMENTED, re.DOTALL)
    assert lines is not None
    with server("--quiet", cwd=here) as url:
        location = f"proxy_pass {url};" if bare else lines[1].replace("http://127.0.0.1:8423", url)
        port, folder = free_port(), tmp_path / "nginx"
        folder.mkdir()
        (folder / "conf").write_text(NGINX.format(folder=folder, port=port, location=location))
        process = subprocess.Popen(
            [str(shutil.which("nginx")), "-c", str(folder / "conf"), "-p", str(folder)], stderr=subprocess.DEVNULL
        )
        try:
            until(lambda: socket.socket().connect_ex(("127.0.0.1", port)) == 0)
            outside = f"http://127.0.0.1:{port}/access/v1/evaluation"
            assert httpx.post(outside, json=QUESTION).status_code == 401
            assert httpx.post(outside, json=QUESTION, headers=bearer("aa_x")).status_code == 401
            assert httpx.post(outside, json=QUESTION, headers=bearer(secret)).json() == {"decision": True}
        finally:
            process.terminate()
            process.wait(20)
