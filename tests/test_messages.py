"""Every way in which files can be wrong, each with the message it gets: what, where, and what is nearest."""

# ruff: noqa: Q000, E501 (a table of what was written and what is said of it)
from __future__ import annotations

import re
from pathlib import Path

import pytest

from ask_above import Community, FaultyFilesError
from conftest import DEMO
from standard import Size, charter_text

GOOD = """\
charter: 1
key: small
rules: {timezone: Europe/London, authority: {moderate: {using: [member.mute]}}}
capabilities:
  Posts:
    post.write: Write a post
    post.edit: {about: Change a post, authored: true}
    member.mute: {about: Mute, implies: [post.write]}
bundles: {kit: [post.write]}
perks: {days: {settle: most}, free: {settle: any}}
ranks:
  - {key: top, grants: [kit]}
  - {key: low, perks: {days: 3}}
  - {key: all, held-by: members}
groups:
  - {key: team, confers: [low]}
override-sets: {calm: {low: {deny: [post.write]}}}
places:
  - key: hall
    kind: section
    gate: {any: [team, top+]}
    overrides: {low: {allow: [post.write]}}
    exceptions: {petra: {deny: [post.write]}}
    places:
      - {key: desk, kind: board, like: [calm]}
expectations:
  - low may post.write in hall
"""
MEMBERS = "key,name,groups,status,joined\npetra,Petra Lind,team,active,2020-01-01\n"
ASSIGNMENTS = "member,rank,place,from,until\npetra,top,hall,2020-01-01,\n"

# what is put instead of what, with a mark where the caret must be; code, a part of the message, the nearest name
CHARTER = [
    ('charter: 1', 'charter: ‸2', 'unknown-word', 'is none of 1', ''),
    ('key: small', 'title: small', 'missing', "needs a line 'key:'", ''),
    ('key: small', 'key: ‸Small One', 'bad-key', 'cannot be the key of a community', 'small-one'),
    ('bundles:', '‸bundels:', 'unknown-key', "has no field 'bundels'", 'bundles'),
    ('charter: 1', 'charter: 1\n‸timezone: UTC', 'unknown-key', "has no field 'timezone'; it stands under rules", ''),
    ('authority: {moderate: {using: [member.mute]}}', '‸moderate: {using: [member.mute]}', 'unknown-key', "no field 'moderate'; it stands under authority", ''),
    ('bundles: {kit: [post.write]}', 'bundles: {kit: [post.write]}\n‸bundles: {}', 'twice', 'the first is on line 9', ''),
    ('ranks:\n  - {key: top, grants: [kit]}', 'ranks:\n  ‸top: {}\nx:\n  - {}', 'wrong-shape', 'a mapping (key: value) stands where a list', ''),
    ('{key: top, grants: [kit]}', '‸[top]', 'wrong-shape', 'a list stands where a mapping', ''),
    ('grants: [kit]', 'grants: ‸kit', 'wrong-shape', 'write [kit]', ''),
    ('grants: [kit]', 'grants: [‸kits]', 'unknown-capability', "no capability or bundle 'kits'", 'kit'),
    ('grants: [kit]', 'grants: [‸post.writ]', 'unknown-capability', "no capability 'post.writ'", 'post.write'),
    ('grants: [kit]', 'grants: [‸pots.*]', 'unknown-capability', 'matches no capability', 'post.*'),
    ('grants: [kit]', 'grants: [‸post.edit]', 'unknown-capability', "write 'post.edit.own'", 'post.edit.all'),
    ('grants: [kit]', 'grants‸:', 'not-yaml', 'a blank is missing after this colon', ''),
    ('grants: [kit]', 'title: "", color: ‸', 'swallowed', 'nothing stands here', ''),
    ('  - {key: low, perks: {days: 3}}', '  - key: low\n    color:‸ #1f6f8b', 'swallowed', 'in quotes: "#1f6f8b"', ''),
    ('{days: 3}', '{days: ‸many}', 'bad-perk-value', "'many' is no number", ''),
    ('{days: 3}', '{free: ‸3}', 'bad-perk-value', 'neither yes nor no', ''),
    ('{days: 3}', '{‸dais: 3}', 'unknown-perk', "no perk 'dais'", 'days'),
    ('key: low,', 'key: ‸top,', 'twice', 'it stands on line 12 already', ''),
    ('key: low,', 'key: low, limit: ‸-1,', 'wrong-shape', 'a whole number', ''),
    ('key: low,', 'key: low, open: ‸perhaps,', 'wrong-shape', 'true or false', ''),
    ('key: low,', 'key: low, builds-on: [‸lwo],', 'unknown-rank', "no rank 'lwo'", 'low'),
    ('key: low,', 'key: low, copied-from: ‸tpo,', 'unknown-rank', "no rank 'tpo'", 'top'),
    ('key: low,', 'key: low, ‸builds-on: [low],', 'loop', 'low → low', ''),
    ('key: low,', 'key: low, after: [‸hihg],', 'unknown-rank', "no rank 'hihg'", ''),
    ('key: low,', 'key: low, assigns: ‸{},', 'only-or-except', 'neither', ''),
    ('key: low,', 'key: low, assigns: ‸{only: [top], except: [all]},', 'only-or-except', 'both', ''),
    ('key: low,', 'key: low, assigns: {only: ‸[]},', 'empty', 'an empty list means nothing', ''),
    ('key: low,', 'key: low, call: ‸shut,', 'unknown-word', 'is none of open or closed', ''),
    ('held-by: members', 'held-by: ‸member', 'unknown-word', 'none of anyone, visitors, members or bots', 'members'),
    ('held-by: members', 'held-by: members, entry: ‸true', 'automatic-entry', 'cannot be automatic', ''),
    ('{key: top,', '{key: new, entry: yes}\n  - {key: top, entry: ‸yes,', 'two-entries', "'new' is the entry rank already", ''),
    ('{key: top,', '{key: ‸visitor}\n  - {key: top,', 'reserved-word', "'visitor' is a reserved word", ''),
    ('key: team', 'key: ‸top', 'rank-and-group', 'is a rank already (line 12)', ''),
    ('confers: [low]', 'confers: [‸all]', 'automatic-conferred', 'no group confers it', ''),
    ('confers: [low]', 'confers: [{rank: low, place: ‸hal}]', 'unknown-place', "no place 'hal'", 'hall'),
    ('confers: [low]', '‸includes: [team]', 'loop', 'team → team', ''),
    ('bundles: {kit: [post.write]}', 'bundles: {‸kit: [bag], bag: [kit]}', 'loop', 'kit → bag → kit', ''),
    ('implies: [post.write]', 'implies: [post.write, member.mute]', 'loop', 'member.mute → member.mute', ''),
    ('post.write: Write a post', '‸post.write: {needs: [member.mute]}', 'loop', 'post.write → member.mute → post.write', ''),
    ('implies: [post.write]', 'implies: [‸post.edit]', 'bare-name', 'is two capabilities', 'post.edit.own'),
    ('implies: [post.write]', 'implies: [‸post.*]', 'wrong-shape', 'stands where a capability', ''),
    ('implies: [post.write]', 'leads-to: [‸post.wriet]', 'unknown-capability', "no capability 'post.wriet'", 'post.write'),
    ('implies: [post.write]', 'risk: ‸hihg', 'unknown-word', 'none of low, medium or high', 'high'),
    ('    member.mute:', '    ‸post.edit.own: x\n    member.mute:', 'twice', 'declared already, on line 7', ''),
    ('    post.write: Write a post', '    ‸write: x\n    post.write: y', 'bad-key', 'at least one dot', ''),
    ('{low: {deny: [post.write]}}', '{‸lo: {deny: [post.write]}}', 'unknown-rank-or-group', "no rank or group 'lo'", 'low'),
    ('{low: {deny: [post.write]}}', '{‸team+: {deny: [post.write]}}', 'group-range', 'only a rank has ranks above it', ''),
    ('{low: {allow: [post.write]}}', '{low: {allow: [member.mute], ‸deny: [post.write]}}', 'gives-and-takes', 'allows and denies post.write', ''),
    ('{low: {allow: [post.write]}}', '{low: {‸alow: [post.write]}}', 'unknown-key', "no field 'alow'", 'allow'),
    ('{any: [team, top+]}', '‸{teaser: true}', 'empty-gate', 'an empty gate asks for nothing', ''),
    ('{any: [team, top+]}', '{any: ‸[]}', 'empty', 'an empty list means nothing here', ''),
    ('{any: [team, top+]}', '{any: [‸tem]}', 'unknown-rank-or-group', "no rank or group 'tem'", 'team'),
    ('like: [calm]', 'like: [‸clam]', 'unknown-override-set', "no override set 'clam'", 'calm'),
    ('kind: board, ', '', 'missing', "needs a line 'kind:'", ''),
    ('kind: board', 'kind: ‸site', 'kind-site', 'only the site itself', ''),
    ('{key: desk,', '{key: ‸hall,', 'twice', 'it stands on line 19 already', ''),
    ('{key: desk,', '{key: ‸in,', 'reserved-word', "'in' is a reserved word", ''),
    ('Europe/London', '‸Europe/Londn', 'unknown-zone', "no time zone 'Europe/Londn'", 'Europe/London'),
    ('using: [member.mute]', 'using: [‸member.muet]', 'unknown-capability', "no capability 'member.muet'", 'member.mute'),
    ('{moderate: {using: [member.mute]}}', '{assign: {using: ‸kit}}', 'not-one-capability', 'stands for several', ''),
    ('{timezone:', '{contacts: ‸post.edit.own, timezone:', 'not-a-pair', 'no pair of own and all', 'post.edit'),
    ('{timezone:', '{seeing: ‸post.edit, timezone:', 'bare-name', 'is two capabilities', 'post.edit.all'),
    ('low may post.write in hall', '‸lo may post.write in hall', 'expectation', "no rank 'lo'", 'low'),
    ('low may post.write in hall', 'low may ‸post.wriet', 'expectation', "no capability 'post.wriet'", 'post.write'),
    ('low may post.write in hall', 'low ‸might post.write', 'expectation', "'may', 'may not' or 'can never reach' belongs", ''),
    ('low may post.write in hall', 'low may post.write ‸at hall', 'expectation', "'at' is not expected here", ''),
    ('low may post.write in hall', 'low may post.write on ‸2026-02-30', 'expectation', 'is no date', ''),
    ('low may post.write in hall', 'every low may ‸not post.write', 'expectation', "say 'no low may ...'", ''),
    ('low may post.write in hall', 'low may moderate all using ‸post.write', 'expectation', 'that moderating takes here', ''),
    ('low may post.write in hall', 'low may unassign low‸', 'expectation', 'unassign RANK of @MEMBER', ''),
    ('low may post.write in hall', 'low may assign top ‸by @petra', 'expectation', 'an act has none', ''),
    ('low may post.write in hall', '‸team may post.write', 'expectation', 'is a group', ''),
    ('low may post.write in hall', 'low may‸', 'expectation', 'ends where a capability or an act belongs', ''),
    ('low may post.write in hall', 'low can ‸sometimes reach post.write', 'expectation', "where 'never' belongs", ''),
    ('low may post.write in hall', 'low can never reach post.write ‸by @una', 'expectation', "'in PLACE' may follow", ''),
    ('low may post.write in hall', 'every low ‸can never reach post.write', 'expectation', 'speaks of a rank', ''),
    ('perks: {days', 'nobody: [‸post.*]\nperks: {days', 'wrong-shape', 'stands where a capability', ''),
    ('perks: {days', 'add-ons: [‸more.yaml]\nperks: {days', 'missing-add-on', "no file 'more.yaml'", ''),
    ('perks: {days', 'add-ons: [‸../more.yaml]\nperks: {days', 'bad-add-on', 'no add-on file beside', ''),
    ('grants: [kit]', 'grants: [‸*]', 'not-yaml', 'is an alias in YAML', ''),
    ('key: small', '‸\tkey: small', 'tab', 'a tab indents this line', ''),
    ('key: small', "key: ‸'small", 'not-yaml', 'a quote is opened and never closed', ''),
    ('grants: [kit]', 'grants: ‸[kit', 'not-yaml', 'is not closed', ''),
    ('key: small', 'key: small‸: one', 'not-yaml', "a second ': '", ''),
    ('key: small', 'key: ‸!thing small', 'tag', 'the tag !thing', ''),
    ('key: small', 'key: small\n‸<<: {title: x}', 'unknown-key', 'write the lines out', ''),
    ('key: small', 'key: small\n‸---\nkey: b', 'not-yaml', 'starts a second document', ''),
    ('key: small', 'key: ‸&a [*a]', 'alias-loop', 'contains itself', ''),
    ('key: small', 'key: sm‸\x07all', 'control-character', 'delete it', ''),
]  # fmt: skip

REGISTER = [
    ("petra,Petra Lind", "Petra!,Petra Lind", "members.csv 2:1", "bad-key", "cannot be the key of a member"),
    ("petra,Petra Lind", "to,Petra Lind", "members.csv 2:1", "reserved-word", "reserved"),
    ("team,active", "taem,active", "members.csv 2:18", "unknown-group", "no group in charter.yaml"),
    ("team,active", "team,actve", "members.csv 2:23", "unknown-word", "no status of a member"),
    ("active,2020-01-01", "active,1/1/20", "members.csv 2:30", "bad-date", "is no date"),
    ("key,name,", "key;name;", "members.csv 1:1", "unknown-column", "no column 'key;name;groups'"),
    ("key,name,groups,status,joined", "key;name;groups", "members.csv 1:1", "separator", "save the file with commas"),
    ("key,name", "key,nmae", "members.csv 1:5", "unknown-column", "no column 'nmae'"),
    ("petra,Petra Lind,team", "petra,Lind, Petra,team", "members.csv 2:24", "too-many-cells", "6 cells"),
    ("petra,Petra Lind", 'petra,"Petra Lind', "members.csv 2:1", "not-csv", "a quote is opened"),
    ("active,2020-01-01\n", "active,2020-01-01\npetra,,,,\n", "members.csv 3:1", "twice", "stands on line 2 already"),
    ("petra,top", "petar,top", "assignments.csv 2:1", "unknown-member", "no member 'petar' in members.csv"),
    ("petra,top", "petra,tpo", "assignments.csv 2:7", "unknown-rank", "no rank 'tpo' in charter.yaml"),
    ("petra,top", "petra,all", "assignments.csv 2:7", "automatic-assigned", "is automatic"),
    ("top,hall", "top,hal", "assignments.csv 2:11", "unknown-place", "no place 'hal' in charter.yaml"),
    ("hall,2020-01-01", "hall,2020-02-30", "assignments.csv 2:16", "bad-date", "'2020-02-30' is no date"),
    ("member,rank", "member,ranc", "assignments.csv 1:1", "missing", "the column 'rank' is missing"),
]


def faults(charter: str = GOOD, members: str = MEMBERS, assignments: str = ASSIGNMENTS) -> FaultyFilesError:
    with pytest.raises(FaultyFilesError) as caught:
        Community.from_texts({"charter.yaml": charter, "members.csv": members, "assignments.csv": assignments})
    return caught.value


def test_the_charter_without_faults_opens() -> None:
    texts = {"charter.yaml": GOOD, "members.csv": MEMBERS, "assignments.csv": ASSIGNMENTS}
    assert Community.from_texts(texts).may("petra", "post.write", at="desk") is not None


@pytest.mark.parametrize(
    ("old", "new", "code", "part", "near"), CHARTER, ids=[f"{c[2]}-{n}" for n, c in enumerate(CHARTER)]
)
def test_a_fault_in_the_charter(old: str, new: str, code: str, part: str, near: str) -> None:
    assert old in GOOD
    before, mark, _ = GOOD.replace(old, new, 1).partition("‸")
    error = faults(GOOD.replace(old, new.replace("‸", ""), 1))
    found = next((f for f in error.faults if f.code == code and part in f"{f.message} {f.expected}"), None)
    assert found, str(error)
    if mark:
        lines = before.split("\n")
        assert (found.line, found.column) == (len(lines), len(lines[-1]) + 1), str(found)
    assert found.line
    assert not near or near in found.nearest, str(found)
    assert "^" in str(found)
    assert found.expected or code in ("not-yaml", "tab")


@pytest.mark.parametrize(("old", "new", "spot", "code", "part"), REGISTER, ids=[c[3] for c in REGISTER])
def test_a_fault_in_the_register(old: str, new: str, spot: str, code: str, part: str) -> None:
    error = faults(members=MEMBERS.replace(old, new, 1), assignments=ASSIGNMENTS.replace(old, new, 1))
    found = next((f for f in error.faults if f.code == code), None)
    assert found, str(error)
    assert f"{found.file} {found.line}:{found.column}" == spot, str(found)
    assert part in found.message


@pytest.mark.parametrize("column", ["member", "rank", "place"])
def test_a_wrong_name_is_found_in_whichever_row_it_stands(column: str) -> None:
    """Rows whose other cells are as in the rows before are read by a shorter way."""
    good = {"member": "petra", "rank": "top", "place": "hall"}
    for bad in range(4):
        rows = [{**good, column: "nowhere"} if n == bad else good for n in range(4)]
        text = "member,rank,place,from,until\n" + "".join(f"{','.join(row.values())},2020-01-01,\n" for row in rows)
        (fault,) = (each for each in faults(assignments=text).faults if each.code.startswith("unknown"))
        assert (fault.line, fault.code) == (bad + 2, f"unknown-{column}")


def test_all_faults_of_all_files_come_in_one_run() -> None:
    charter = GOOD.replace("[kit]}", "[kits]}").replace("kind: board", "knd: board").replace("Europe/London", "Europe")
    error = faults(charter, MEMBERS.replace("team", "taem"), ASSIGNMENTS.replace("petra", "petar"))
    assert {fault.file for fault in error.faults} == {"charter.yaml", "members.csv", "assignments.csv"}
    assert len(error.faults) == 6
    assert str(error).endswith("6 faults; nothing was read.")


@pytest.mark.parametrize(
    ("raw", "code", "part"),
    [
        (b"", "empty-file", "empty"),
        (b"# only a comment\n", "empty-file", "nothing but comments"),
        (b"charter: 1\nkey: caf\xe9\n", "not-utf-8", "byte 0xe9 is not UTF-8"),
        ("charter: 1".encode("utf-16"), "not-utf-8", "UTF-16"),
        (b"[" * 5000, "not-yaml", "nested far too deep"),
        (b"- a\n- b\n", "wrong-shape", "a list stands where a mapping"),
        (b"just text", "wrong-shape", "'just text' stands where a mapping"),
    ],
)
def test_what_is_no_charter_at_all(raw: bytes, code: str, part: str, tmp_path: Path) -> None:
    (tmp_path / "charter.yaml").write_bytes(raw)
    with pytest.raises(FaultyFilesError) as caught:
        Community.open(tmp_path)
    assert caught.value.faults[0].code == code
    assert part in caught.value.faults[0].message


def test_add_ons_that_clash_name_both_files() -> None:
    add_on = "add-on: more\ncapabilities: {Posts: {post.write: Twice}}\n"
    with pytest.raises(FaultyFilesError, match=r"more.yaml, line 2.*\n.*on line 6 of charter.yaml"):
        Community.from_texts({"charter.yaml": GOOD + "add-ons: [more.yaml]\n", "more.yaml": add_on})


def test_words_that_yaml_would_take_for_something_else_are_text() -> None:
    charter = GOOD.replace("key: top,", "key: 'null', title: no, about: 12:30, badge: ~,").replace(
        "[team, top+]", "[team, null+]"
    )
    charter = charter.replace("key: low,", "key: 007, title: on,")
    charter = (
        charter.replace("confers: [low]", "confers: [007]").replace("{low:", "{007:").replace("- low may", "- 007 may")
    )
    community = Community.from_texts({"charter.yaml": charter})
    assert community.rank("null").title == "no"
    assert community.rank("null").about == "12:30"
    assert community.rank("null").badge == "~"
    assert community.rank("007").title == "on"


def test_a_byte_order_mark_aliases_and_windows_line_ends_are_read() -> None:
    charter = "\ufeff" + GOOD.replace("perks: {days: 3}", "grants: &w [kit]").replace("[kit]}", "*w}").replace(
        "grants: *w", "grants: [kit]"
    )
    charter = charter.replace("{key: all,", "{key: more, grants: *w}\n  - {key: all,").replace("\n", "\r\n")
    members = "\ufeff" + MEMBERS.replace("\n", "\r\n")
    community = Community.from_texts({"charter.yaml": charter.replace("&w *w", "&w [kit]"), "members.csv": members})
    assert community.grid().loc["post.write", "more"]


def test_a_fault_on_the_last_of_five_thousand_lines_is_on_that_line() -> None:
    text = charter_text(Size(ranks=60, capabilities=120, places=260, overrides=780))
    whole = text + "expectations:\n- rank-1 may see.nothing\n"
    lines = whole.count("\n")
    assert lines > 5_000
    with pytest.raises(FaultyFilesError) as caught:
        Community.from_texts({"charter.yaml": whole})
    (fault,) = caught.value.faults
    assert (fault.line, fault.column) == (lines, 14)
    assert fault.source == "- rank-1 may see.nothing"


FILES = {file.name: file.read_text("utf-8") for file in DEMO.iterdir() if file.suffix in (".yaml", ".csv")}
_LINE = re.compile(r"(?P<lead> *(?:- )?)(?P<key>[\w.*-]+): (?P<value>[^\s\"'{\[#].*)")
SLIPS = {
    "a quote that is opened": '{lead}{key}: "{value}',
    "the other one": "{lead}{key}: '{value}",
    "no colon": "{lead}{key} {value}",
    "a semicolon": "{lead}{key}; {value}",
    "an equals sign": "{lead}{key} = {value}",
    "a space that is none": "{lead}{key}:\N{NO-BREAK SPACE}{value}",
    "a space before it that is none": "\N{NO-BREAK SPACE}{lead}{key}: {value}",
    "no space": "{lead}{key}:{value}",
    "a tab": "\t{lead}{key}: {value}",
    "a bracket": "{lead}{key}: [{value}",
}


@pytest.mark.parametrize("slip", SLIPS)
def test_a_slip_in_any_line_is_found_where_it_is(slip: str) -> None:
    """One fault at least stands in that line or beside it, whatever follows from it elsewhere."""
    lines = FILES["charter.yaml"].split("\n")
    written = [(n, match) for n, line in enumerate(lines) if (match := _LINE.fullmatch(line))]
    assert len(written) > 90
    for n, match in written[[*SLIPS].index(slip) % 4 :: 4]:
        text = "\n".join([*lines[:n], SLIPS[slip].format(**match.groupdict()), *lines[n + 1 :]])
        with pytest.raises(FaultyFilesError) as caught:
            Community.from_texts({**FILES, "charter.yaml": text})
        assert min(abs(fault.line - n - 1) for fault in caught.value.faults) <= 1, (n + 1, caught.value.faults)


def test_a_text_of_several_lines_is_read_where_they_are_indented() -> None:
    text = FILES["charter.yaml"].replace("title: Wren Valley River Watch", 'title: "Wren Valley\n  River Watch"')
    assert Community.from_texts({**FILES, "charter.yaml": text}).charter.title == "Wren Valley River Watch"
    listed = text.replace("expectations:", 'expectations:\n  - "volunteer may\n    place.see"', 1)
    assert len(Community.from_texts({**FILES, "charter.yaml": listed}).charter.expectations) == 19
