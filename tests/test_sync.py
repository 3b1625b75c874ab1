"""People and groups of a directory: taken over in one change, and nothing touched that the mapping does not claim."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from email import message_from_bytes, policy
from pathlib import Path
from typing import Any

import ldap3
import pytest
from aiosmtpd.controller import Controller
from soak.synced import as_it_is

from ask_above import Community
from ask_above.change import Edit, GroupRename, PlaceRename, RankRename
from asking import free_port
from commands import Done, run
from conftest import DEMO
from directories import BASE, PASSWORD, certificate, cut_after, program, slapd, societies
from seeds import seeds

PEOPLE = """dn: uid=ida,ou=people,dc=river
objectClass: inetOrgPerson
uid: ida
cn: Ida Reed
sn: Reed
mail: ida@river.example
employeeNumber: 1

dn: uid=tove,ou=people,dc=river
objectClass: inetOrgPerson
uid: tove
cn:: VG92ZSBFZGR5
sn: Eddy
employeeNumber: 2
memberOf: cn=Divers,ou=groups,dc=river

dn: cn=Surveyors,ou=groups,dc=river
objectClass: groupOfUniqueNames
cn: Surveyors
uniqueMember: cn=Upper reach,ou=groups,dc=river
uniqueMember: uid=Tove, OU=people, dc=river

dn: cn=Upper reach,ou=groups,dc=river
objectClass: groupOfNames
cn: Upper reach
member: uid=ida,ou=people,dc=river

dn: cn=Hosts,ou=groups,dc=river
objectClass: posixGroup
cn: Hosts
gidNumber: 7
memberUid: ida

dn: cn=Divers,ou=groups,dc=river
objectClass: groupOfNames
cn: Divers
member: uid=nobody,ou=people,dc=river
"""
MAPPING = """name: sisters
directory: people.ldif
people:
  number: employeeNumber
gives:
  - {group: Surveyors, rank: surveyor}
  - {group: Hosts, rank: host, place: commons}
  - {group: Upper reach, into: upper-team}
absent: retire
"""


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    (tmp_path / "river" / "people.ldif").write_text(PEOPLE)
    (tmp_path / "river" / "directory.yaml").write_text(MAPPING)
    return tmp_path / "river"


def sync(here: Path, *options: str, mapping: str = "directory.yaml", **env: str) -> Done:
    return run("sync", mapping, *(() if "--let-go" in options else ("--link",)), *options, cwd=here, **env)


def given(community: Community, member: str) -> set[tuple[str, str, str]]:
    return {(e.rank, e.place, e.source) for e in community.register.of(member)}


class TestTakingOver:
    def test_people_are_added_or_recognised_and_given_what_their_groups_give(self, here: Path) -> None:
        planned = sync(here, "--plan")
        assert "sisters: 2 people, 4 groups" in planned.stdout
        assert not (here / "register.db").exists()
        assert sync(here, "--yes").returncode == 0
        c = Community.open(here)
        ida, tove = c.member("ida"), c.member("tove")
        assert (ida.name, ida.email, ida.external_id, ida.groups) == (
            "Ida Reed",
            "ida@river.example",
            "sisters:1",
            ("upper-team",),
        )
        # through a group in a group, by uid, at a place
        assert {("surveyor", "site", "sisters"), ("host", "commons", "sisters"), ("volunteer", "site", "")} == given(
            c, "ida"
        )
        # somebody who was here already is recognised, and keeps what they were given by hand
        assert (tove.name, tove.external_id) == ("Tove Eddy", "sisters:2")
        assert ("surveyor", "site", "sisters") in given(c, "tove")
        assert ("volunteer", "site", "") in given(c, "tove")

    def test_who_is_likely_somebody_here_is_left_out_and_told_until_they_are_linked(self, here: Path) -> None:
        done = run("sync", "directory.yaml", "--yes", cwd=here)
        assert "Tove Eddy (number 2) is likely tove, and is left out. If so: --link" in " ".join(done.stderr.split())
        c = Community.open(here)
        assert c.member("tove").external_id == ""
        assert ("surveyor", "site", "sisters") not in given(c, "tove")
        assert len([m for m in c.register.members.values() if m.name == "Tove Eddy"]) == 1
        sync(here, "--yes")
        assert Community.open(here).member("tove").external_id == "sisters:2"

    def test_run_by_a_member_it_is_an_import_without_ids_and_source(self, here: Path) -> None:
        (here / "directory.yaml").write_text(MAPPING.replace("rank: host", "rank: volunteer"))
        assert sync(here, "--yes", "--as", "ada").returncode == 0
        c = Community.open(here)
        assert (c.member("ida").external_id, c.member("tove").external_id) == ("", "")
        assert {source for *_, source in given(c, "ida")} == {""}
        assert run("unassign", "surveyor", "ida", "--as", "ada", "--yes", cwd=here).returncode == 0

    def test_twice_in_a_row_changes_nothing_and_it_is_one_change(self, here: Path) -> None:
        sync(here, "--yes")
        number = Community.open(here).home.store.entries()[-1].number
        assert "Nothing changes" in sync(here, "--yes").stdout
        assert Community.open(here).home.store.entries()[-1].number == number == 2
        assert "take over sisters: 2 members changed of 2" in run("journal", cwd=here).stdout

    @pytest.mark.parametrize("seed", seeds(24))
    def test_what_it_leaves_is_what_the_directory_says_and_a_second_time_is_as_the_first(self, seed: int) -> None:
        assert not list(as_it_is(seed))

    @pytest.mark.slow
    def test_those_who_are_gone_are_retired_told_or_left(self, here: Path) -> None:
        sync(here, "--yes")
        without = PEOPLE[PEOPLE.index("dn: uid=tove") :]
        (here / "people.ldif").write_text(without)
        refused = sync(here, "--yes")
        assert (refused.returncode, "1 of 2 members who came from sisters" in refused.stderr) == (2, True)
        assert Community.open(here).member("ida").status == "active"
        for absent, status in (("tell", "active"), ("leave", "active")):
            (here / "directory.yaml").write_text(MAPPING.replace("retire", absent) + "most-absent: 60%\n")
            said = sync(here, "--yes")
            assert Community.open(here).member("ida").status == status
            assert ("Ida Reed" in said.stderr) is (absent == "tell")
        (here / "directory.yaml").write_text(MAPPING)
        assert sync(here, "--yes", "--force", "--why", "The society left").returncode == 2  # always
        (here / "directory.yaml").write_text(MAPPING + "most-absent: 60%\n")
        assert sync(here).returncode == 2  # there is nobody to ask
        assert "1 of 2 members who came from sisters (50%)" in sync(here, "--yes").stderr
        c = Community.open(here)
        assert c.member("ida").status == "retired"
        assert not [e for e in given(c, "ida") if e[2]]
        # and comes back with the directory
        (here / "people.ldif").write_text(PEOPLE)
        sync(here, "--yes")
        assert Community.open(here).member("ida").status == "active"

    def test_commands_are_refused_what_the_directory_holds(self, here: Path) -> None:
        sync(here, "--yes")
        for words in (("unassign", "surveyor", "ida"), ("unassign", "surveyor", "ida", "--as", "ines")):
            done = run(*words, "--yes", cwd=here)
            assert done.returncode == 1
            assert "Surveyor of Ida Reed comes from sisters; take it there, and sync again" in " ".join(
                done.stdout.split()
            )
        assert run("undo", "--yes", cwd=here).returncode == 0

    @pytest.mark.parametrize(
        "edit",
        [
            RankRename("host", None, "landing-host"),
            GroupRename("upper-team", None, "team-one"),
            PlaceRename("commons", None, "landing-room"),
        ],
    )
    def test_another_key_takes_nothing_from_whoever_has_what_the_directory_gave(self, here: Path, edit: Edit) -> None:
        sync(here, "--yes")
        before = Community.open(here)
        before.plan(edit).apply()
        after = before.again()
        assert not before.impact(after)
        assert [each.source for each in after.register.of("ida")] == [each.source for each in before.register.of("ida")]

    def test_another_key_by_hand_is_answered_with_the_command_that_gives_it(self, here: Path) -> None:
        sync(here, "--yes")
        for name in ("charter.yaml", "assignments.csv"):
            text = (here / name).read_text()
            (here / name).write_text(re.sub(r"\bhost\b", "landing-host", text))
        told = " ".join(run("check", cwd=here).stdout.split())
        assert "sisters gave it, which no file changes; to change its key: ask-above rank rename host --key KEY" in told
        assert run("undo", "--edits", "--yes", cwd=here).returncode == 0
        assert run("rank", "rename", "host", "--key", "landing-host", "--yes", cwd=here).returncode == 0

    @pytest.mark.slow
    def test_commands_are_refused_names_addresses_and_groups_that_the_directory_holds(self, here: Path) -> None:
        sync(here, "--yes")
        for words, said in (
            (("member", "set", "ida", "--name", "Ida R"), "The name of Ida Reed comes from sisters; change it there"),
            (("member", "set", "ida", "--email", "i@river.example"), "The address of Ida Reed comes from sisters"),
            (("member", "take", "ida", "upper-team"), "Whether Ida Reed is in upper-team comes from sisters"),
            (("member", "put", "tove", "upper-team"), "Whether Tove Eddy is in upper-team comes from sisters"),
        ):
            done = run(*words, "--yes", cwd=here)
            assert (done.returncode, said in " ".join(done.stdout.split())) == (1, True), done
        # what it does not hold is everybody's to change: other groups, notes, and whoever is not in it
        for words in (("member", "put", "ida", "samplers"), ("member", "put", "dara", "upper-team")):
            assert run(*words, "--yes", cwd=here).returncode == 0
        assert "Nothing changes" in sync(here, "--yes").stdout

    def test_of_an_edit_by_hand_counts_what_the_directory_does_not_hold(self, here: Path) -> None:
        sync(here, "--yes")
        members, assignments = here / "members.csv", here / "assignments.csv"
        members.write_text(members.read_text().replace("Ida Reed,ida@river.example", "Ida R,ida@elsewhere.example"))
        c = Community.open(here)
        assert (c.member("ida").name, c.member("ida").email) == ("Ida Reed", "ida@river.example")
        refused = "members.csv: what sisters says of ida comes from there; the edit does not count."
        assert refused in c.notices
        # beside what is held, in the same line, a note is everybody's to write
        rows = {row["key"]: row for row in csv.DictReader(io.StringIO(members.read_text()))}
        rows["ida"]["note"], rows["dara"]["name"] = "Prefers mornings", "Dara F"
        with members.open("w", newline="") as file:
            out = csv.DictWriter(file, rows["ida"].keys())
            out.writeheader()
            out.writerows(rows.values())
        c = Community.open(here)
        assert (c.member("ida").name, c.member("ida").note, c.member("dara").name) == (
            "Ida Reed",
            "Prefers mornings",
            "Dara F",
        )
        assert refused in c.notices
        left = [line for line in assignments.read_text().splitlines() if not line.startswith(("ida,", "bram,"))]
        assignments.write_text("\n".join(left) + "\n")
        c = Community.open(here)
        assert {each for each in given(c, "ida") if each[2]} == {
            ("surveyor", "site", "sisters"),
            ("host", "commons", "sisters"),
        }
        assert given(c, "bram") == set()
        assert "assignments.csv: surveyor of ida comes from sisters; the edit does not count." in c.notices

    @pytest.mark.slow
    def test_what_came_from_it_is_kept_by_hand_once_it_is_let_go(self, here: Path) -> None:
        sync(here, "--yes")
        assert sync(here, "--let-go", "--yes", "--as", "petra").returncode == 1
        done = sync(here, "--let-go", "--yes", "--as", "ines", "--why", "The societies part")
        assert (done.returncode, "Keep by hand what came from sisters" in done.stdout) == (0, True)
        c = Community.open(here)
        assert (c.member("ida").external_id, {source for *_, source in given(c, "ida")}) == ("", {""})
        assert run("unassign", "surveyor", "ida", "--yes", cwd=here).returncode == 0
        assert run("member", "set", "ida", "--name", "Ida R", "--yes", cwd=here).returncode == 0

    def test_a_rank_kept_by_the_directory_is_given_and_taken_by_it_alone(self, here: Path) -> None:
        charter = here / "charter.yaml"
        charter.write_text(
            charter.read_text().replace("  - key: surveyor\n", "  - key: surveyor\n    kept-by: Sisters\n")
        )
        assert run("assign", "surveyor", "bram", "--yes", cwd=here).returncode == 1
        assert sync(here, "--yes").returncode == 0
        assert ("surveyor", "site", "sisters") in given(Community.open(here), "ida")
        (here / "people.ldif").write_text(PEOPLE.replace("uniqueMember: uid=Tove, OU=people, dc=river\n", ""))
        assert sync(here, "--yes").returncode == 0
        assert ("surveyor", "site", "sisters") not in given(Community.open(here), "tove")
        (here / "directory.yaml").write_text(MAPPING.replace("name: sisters", "name: others"))
        other = PEOPLE.replace("ida", "iva").replace("Ida", "Iva").replace("employeeNumber: 1", "employeeNumber: 9")
        (here / "people.ldif").write_text(other)
        refused = sync(here, "--yes")
        assert (refused.returncode, "is kept by Sisters" in " ".join(refused.stdout.split())) == (1, True)

    def test_a_sync_reaches_no_further_than_its_member(self, here: Path) -> None:
        (here / "directory.yaml").write_text(MAPPING.replace("rank: surveyor", "rank: steward"))
        done = sync(here, "--yes", "--as", "ada")
        assert done.returncode == 1
        assert "ida" not in Community.open(here).register.members


class TestFaults:
    @pytest.mark.parametrize(
        ("old", "new", "line", "said"),
        [
            ("number:", "numbre:", 4, "nearest: number"),
            ("rank: surveyor", "rnak: surveyor", 6, "nearest: rank"),
            ("absent: retire", "absent: remove", 9, "retire"),
            ("{group: Upper reach, into: upper-team}", "{group: Upper reach}", 8, "either a rank or membership"),
            ("absent: retire", "most-absent: many", 9, "no share"),
            ("name: sisters", 'name: "sisters:north"', 1, "has a colon in it"),
            ("name: sisters", "name: ' '", 1, "Nothing stands here"),
        ],
    )
    def test_faults_of_the_mapping_are_told_by_line(self, here: Path, old: str, new: str, line: int, said: str) -> None:
        (here / "directory.yaml").write_text(MAPPING.replace(old, new))
        done = sync(here, "--plan")
        assert done.returncode == 2
        text = " ".join((done.stdout + done.stderr).split())
        assert f"directory.yaml, line {line}" in text
        assert said in text

    @pytest.mark.parametrize(
        ("old", "new", "said"),
        [
            ("rank: surveyor", "rank: survayor", "There is no rank 'survayor'. Nearest: surveyor"),
            ("into: upper-team", "into: uper-team", "There is no group 'uper-team'. Nearest: upper-team"),
            ("rank: surveyor", "rank: member", "is automatic"),
            ("directory: people.ldif", "directory: people.lidf", "cannot be read"),
            ("number: employeeNumber", "number: sn", ""),
        ],
    )
    def test_names_that_are_not_here_are_told(self, here: Path, old: str, new: str, said: str) -> None:
        (here / "directory.yaml").write_text(MAPPING.replace(old, new))
        done = sync(here, "--plan")
        assert said in done.stderr
        assert "Traceback" not in done.stderr
        assert done.returncode == (2 if said else 0)

    def test_what_is_no_ldif_and_numbers_that_are_twice(self, here: Path) -> None:
        (here / "people.ldif").write_text("dn: uid=ida\nno colon here\n")
        assert "this is no LDIF" in sync(here, "--plan").stderr
        (here / "people.ldif").write_text(PEOPLE.replace("employeeNumber: 2", "employeeNumber: 1"))
        assert "2 people of sisters have the number '1'" in sync(here, "--plan").stderr

    def test_a_server_that_is_not_there_changes_nothing(self, here: Path) -> None:
        (here / "directory.yaml").write_text(MAPPING.replace("people.ldif", "ldap://127.0.0.1:9") + "tls: none\n")
        done = sync(here, "--yes")
        assert (done.returncode, "Nothing was done" in done.stderr) == (2, True)
        (here / "directory.yaml").write_text(MAPPING + f"bind: cn=admin,{BASE}\n")
        assert "ASK_ABOVE_DIRECTORY_PASSWORD" in sync(here, "--yes").stderr


@pytest.mark.slow
class TestTheRealThing:
    MAPPING = f"""name: societies
directory: URL
tls: none
bind: cn=admin,{BASE}
people:
  base: ou=people,{BASE}
  number: employeeNumber
groups:
  base: ou=groups,{BASE}
gives:
  - {{group: group 2, rank: surveyor}}
  - {{group: group 5, rank: volunteer}}
  - {{group: group 7, into: upper-team}}
absent: retire
"""

    @pytest.fixture
    def directory(self, here: Path, tmp_path: Path) -> Any:
        if program() is None:
            pytest.skip("OpenLDAP is not installed; .ci/run installs it")
        with slapd(tmp_path, societies(2000, 60)) as url:
            (here / "directory.yaml").write_text(self.MAPPING.replace("URL", url))
            yield url

    @pytest.mark.parametrize("limit", ["500", "1100"])
    def test_a_directory_with_a_limit_is_read_whole_or_not_at_all(self, here: Path, tmp_path: Path, limit: str) -> None:
        secret = {"ASK_ABOVE_DIRECTORY_PASSWORD": "reader"}
        with slapd(tmp_path / "limited", societies(1200, 3), total=limit) as url:
            mapping = self.MAPPING.replace("URL", url).replace("cn=admin", "uid=person1,ou=people")
            (here / "directory.yaml").write_text(mapping)
            done = sync(here, "--yes", **secret)
            assert (done.returncode, "Nothing was done" in done.stderr) == (2, True), done
            assert "sizeLimitExceeded after" in " ".join(done.stderr.split())
            assert len(Community.open(here).register.members) == 60

    def test_two_thousand_people_come_move_and_go(self, here: Path, directory: str) -> None:
        secret = {"ASK_ABOVE_DIRECTORY_PASSWORD": PASSWORD}
        assert "cannot be read" in sync(here, "--plan", ASK_ABOVE_DIRECTORY_PASSWORD="wrong").stderr  # noqa: S106
        done = sync(here, "--yes", **secret)
        assert "societies: 2,000 people, 60 groups" in done.stdout
        c = Community.open(here)
        assert len(c.register.members) == 2060
        # group 2 holds group 1, which holds group 0, which holds group 2 again
        nested = {f"person{n}" for n in range(2000) if {n % 60, (n * 7 + 3) % 60} & {0, 1, 2}}
        assert {e.member for e in c.register.assignments if e.source == "societies" and e.rank == "surveyor"} == nested
        assert "Nothing changes" in sync(here, "--yes", **secret).stdout
        connection = ldap3.Connection(directory, f"cn=admin,{BASE}", PASSWORD, auto_bind=True)
        connection.modify(f"uid=person4,ou=people,{BASE}", {"cn": [(ldap3.MODIFY_REPLACE, ["Ida Reed"])]})
        mover = f"uid=person5,ou=people,{BASE}"
        connection.modify(f"cn=group 2,ou=groups,{BASE}", {"member": [(ldap3.MODIFY_ADD, [mover])]})
        connection.delete(f"uid=person6,ou=people,{BASE}")
        assert sync(here, "--yes", **secret).returncode == 0
        c = Community.open(here)
        assert c.member("person4").name == "Ida Reed"
        assert ("surveyor", "site", "societies") in given(c, "person5")
        assert c.member("person6").status == "retired"
        assert c.home.store.entries()[-1].what == "take over societies: 3 members changed of 1,999"

    def test_a_line_that_breaks_in_the_middle_changes_nothing(self, here: Path, directory: str) -> None:
        secret = {"ASK_ABOVE_DIRECTORY_PASSWORD": PASSWORD}
        text = (here / "directory.yaml").read_text()
        for count in (200, 60_000, 300_000):
            with cut_after(directory, count) as url:
                (here / "directory.yaml").write_text(text.replace(directory, url))
                done = sync(here, "--yes", **secret)
            assert (done.returncode, "Nothing was done" in done.stderr) == (2, True), (count, done)
            assert not (here / "register.db").exists()

    def test_a_directory_that_suddenly_lists_nobody_is_refused(self, here: Path, directory: str) -> None:
        assert directory
        secret = {"ASK_ABOVE_DIRECTORY_PASSWORD": PASSWORD}
        sync(here, "--yes", **secret)
        text = (here / "directory.yaml").read_text()
        (here / "directory.yaml").write_text(text.replace(f"base: ou=people,{BASE}", f"base: ou=groups,{BASE}"))
        done = sync(here, "--yes", **secret)
        assert (done.returncode, "2,000 of 2,000 members" in done.stderr) == (2, True)


@pytest.mark.slow
@pytest.mark.parametrize("scheme", ["ldaps", "ldap"])
def test_over_tls_the_directory_s_certificate_must_be_vouched_for(here: Path, tmp_path: Path, scheme: str) -> None:
    if program() is None:
        pytest.skip("OpenLDAP is not installed; .ci/run installs it")
    with slapd(tmp_path, societies(20, 10), secure=True, both=scheme == "ldap") as url:
        mapping = TestTheRealThing.MAPPING.replace("URL", url).replace("tls: none\n", "")
        secret = {"ASK_ABOVE_DIRECTORY_PASSWORD": PASSWORD}
        (here / "directory.yaml").write_text(mapping)
        refused = sync(here, "--yes", **secret)
        assert (refused.returncode, "Nothing was done" in refused.stderr) == (2, True)
        shutil.copy(tmp_path / "cert.pem", here / "cert.pem")
        (here / "directory.yaml").write_text(mapping + "authority: cert.pem\n")
        done = sync(here, "--yes", **secret)
        assert (done.returncode, "societies: 20 people, 10 groups" in done.stdout) == (0, True), done.stderr


class TestOut:
    @pytest.mark.parametrize(("form", "file"), [("--ldif", "people.ldif"), ("--scim", "resources.jsonl")])
    @pytest.mark.slow
    def test_what_goes_out_comes_back_the_same(self, here: Path, form: str, file: str) -> None:
        assert run("member", "set", "tove", "phone=+44 1632 960000", "--yes", cwd=here).returncode == 0
        assert run("export", "out", form, cwd=here).returncode == 0
        assert "+44 1632 960000" in (here / "out" / file).read_text()
        assert run("member", "set", "tove", "phone=+44 1", "--yes", cwd=here).returncode == 0
        (here / "out" / "back.yaml").write_text(
            f"name: back\ndirectory: {file}\npeople: {{number: uid}}\n"
            "gives:\n  - {group: Upper reach team, into: upper-team}\n  - {group: Surveyor, rank: surveyor}\n"
        )
        before = Community.open(here)
        sync(here, "--yes", mapping="out/back.yaml")
        after = Community.open(here)
        assert after.member("tove").phone == "+44 1632 960000"
        same = [m._replace(external_id="", phone="", where=None) for m in after.register.members.values()]  # type: ignore[arg-type]
        assert same == [m._replace(phone="", where=None) for m in before.register.members.values()]  # type: ignore[arg-type]
        assert {e[:3] for e in after.register.assignments} == {e[:3] for e in before.register.assignments}

    @pytest.mark.parametrize("line", ["[1]", "{", '{"userName": "x"}', '{"displayName": "x", "members": [1]}'])
    def test_what_is_no_resource_is_told_by_line(self, here: Path, line: str) -> None:
        (here / "r.jsonl").write_text(f'{{"id": "1", "userName": "ida"}}\n{line}\n')
        (here / "back.yaml").write_text("name: back\ndirectory: r.jsonl\npeople: {number: id}\n")
        done = sync(here, "--yes", mapping="back.yaml")
        assert (done.returncode, "r.jsonl, line 2: this is no SCIM resource" in done.stderr) == (2, True)

    def test_of_resources_the_active_are_taken_with_their_primary_address_else_the_first(self, here: Path) -> None:
        mails = [{"value": f"{name}@river.example"} for name in ("first", "second")]
        people = [
            {"id": "1", "userName": "ida", "displayName": "Ida", "emails": mails},
            {"id": "2", "userName": "rue", "displayName": "Rue", "emails": [mails[0], mails[1] | {"primary": True}]},
            {"id": "3", "userName": "jo", "displayName": "Jo", "active": False},
        ]
        (here / "r.jsonl").write_text("\n".join(map(json.dumps, people)))
        (here / "back.yaml").write_text("name: back\ndirectory: r.jsonl\npeople: {number: id}\n")
        assert "1 person who is not active there: left out" in sync(here, "--yes", mapping="back.yaml").stderr
        c = Community.open(here)
        assert "jo" not in c.register.members
        assert (c.member("ida").email, c.member("rue").email) == ("first@river.example", "second@river.example")

    def test_scim_resources_are_what_the_standard_reads(self, here: Path) -> None:
        run("export", "out", "--scim", cwd=here)
        lines = [json.loads(line) for line in (here / "out" / "resources.jsonl").read_text().splitlines()]
        users = [each for each in lines if "userName" in each]
        assert len(users) == sum(m.status != "retired" for m in Community.open(here).register.members.values())
        from scim2_models import User

        assert User.model_validate(users[0]).user_name
        groups = {each["displayName"]: each["members"] for each in lines if "displayName" in each and "members" in each}
        assert {each["value"] for each in groups["Steward"]} == {"ines", "olaf"}

    @pytest.mark.parametrize("form", ["--ldif", "--scim", "--csv"])
    def test_contacts_are_held_to_the_rules(self, here: Path, form: str) -> None:
        run("export", "out", form, "--as", "dara", cwd=here)
        text = "".join(file.read_text() for file in (here / "out").iterdir())
        assert "Tove Eddy" not in text
        assert "@" not in text.replace("@localhost", "")
        run("export", "out", form, "--as", "ada", cwd=here)
        assert "Tove Eddy" in "".join(file.read_text() for file in (here / "out").iterdir())


class Mailbox:
    """A mail server in the test: it takes letters, and refuses one address."""

    def __init__(self) -> None:
        self.letters: list[Any] = []
        self.port = 0

    async def handle_RCPT(self, _: Any, __: Any, envelope: Any, address: str, ___: Any) -> str:  # noqa: N802
        if address.startswith("jo@"):
            return "550 nobody of that name lives here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, _: Any, __: Any, envelope: Any) -> str:  # noqa: N802
        self.letters.append(message_from_bytes(envelope.content, policy=policy.default))
        return "250 OK"


@contextmanager
def post_office(**how: Any) -> Iterator[Mailbox]:
    """A real server for mail on the loopback."""
    box = Mailbox()
    controller = Controller(box, hostname="127.0.0.1", port=free_port(), **how)
    controller.start()
    box.port = controller.port
    try:
        yield box
    finally:
        controller.stop()


@pytest.fixture
def mailbox() -> Iterator[Mailbox]:
    with post_office() as box:
        yield box


class TestLetters:
    @pytest.mark.slow
    def test_letters_are_handed_over_and_put_aside_and_what_was_refused_stays(self, here: Path, mailbox: Any) -> None:
        link = {"ASK_ABOVE_INVITATION_LINK": "https://river.example/join/{key}?to={email}"}
        for key in ("ida", "jo"):
            done = run(
                "member",
                "invite",
                key,
                "--email",
                f"{key}@river.example",
                "--name",
                "Zoë Ünal",
                "--yes",
                cwd=here,
                **link,
            )
            assert done.returncode == 0, done.stderr
        mail = {
            "ASK_ABOVE_MAIL_SERVER": f"127.0.0.1:{mailbox.port}",
            "ASK_ABOVE_MAIL_FROM": "river@river.example",
            "ASK_ABOVE_MAIL_TLS": "none",
        }
        assert "2 letters wait" in run("send", "--plan", cwd=here).stdout
        done = run("send", cwd=here, **mail)
        assert done.returncode == 1
        assert "jo@river.example" in done.stdout
        assert "550 nobody of that name lives here" in done.stdout
        (letter,) = mailbox.letters
        assert (letter["From"], letter["To"]) == ("river@river.example", "Zoë Ünal <ida@river.example>")
        assert "https://river.example/join/ida?to=ida%40river.example" in letter.get_content()
        assert letter["Message-ID"]
        assert [file.name.endswith("-jo.eml") for file in (here / "outbox").glob("*.eml")] == [True]
        assert len(list((here / "outbox" / "sent").iterdir())) == 1
        assert "The outbox is empty" not in run("send", cwd=here, **mail).stdout
        assert len(mailbox.letters) == 1

    @pytest.mark.slow
    def test_what_is_missing_is_told(self, here: Path) -> None:
        run("member", "invite", "ida", "--email", "ida@river.example", "--yes", cwd=here)
        assert "Set ASK_ABOVE_MAIL_SERVER" in run("send", cwd=here).stderr
        mail = {"ASK_ABOVE_MAIL_SERVER": "127.0.0.1:9", "ASK_ABOVE_MAIL_FROM": "x@river.example"}
        assert "cannot be spoken to" in run("send", cwd=here, **mail).stderr
        assert "starttls, tls or none" in run("send", cwd=here, **mail, ASK_ABOVE_MAIL_TLS="yes").stderr
        assert len(list((here / "outbox").glob("*.eml"))) == 1

    def test_letters_travel_under_tls_where_nothing_else_is_said_and_to_whom_is_vouched_for(
        self, here: Path, tmp_path: Path
    ) -> None:
        run("member", "invite", "ida", "--email", "ida@river.example", "--yes", cwd=here)
        cert, key = certificate(tmp_path)
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        context.load_cert_chain(cert, key)
        with post_office(tls_context=context, require_starttls=True) as box:
            server = {"ASK_ABOVE_MAIL_SERVER": f"127.0.0.1:{box.port}", "ASK_ABOVE_MAIL_FROM": "x@river.example"}
            stranger = run("send", cwd=here, **server)
            assert "certificate" in stranger.stderr
            assert box.letters == []
            assert len(list((here / "outbox").glob("*.eml"))) == 1
            done = run("send", cwd=here, **server, SSL_CERT_FILE=str(cert))
            assert done.returncode == 0, done.stderr
            assert [letter["To"] for letter in box.letters] == ["ida@river.example"]
