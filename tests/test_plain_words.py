"""What people read is plain English: no private words in sources, documents and output; answers fit a screen."""

from __future__ import annotations

import ast
import os
import pty
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from commands import PLAIN, run
from conftest import DEMO
from test_as_one_says_it import TYPED

ROOT = Path(__file__).parent.parent
PRIVATE = re.compile(
    r"\bcarr(?:y|ies|ied|ying)\b(?! out)|held without being given"
    r"|\bvisitors too\b|\boneself\b|\bone's own\b|\bone may "
    r"|[Ii]n nobody's name|within what they may do|\bcounts? more\b|\bturns? (?:no|the answer)\b|\bwould turn\b"
    r"|answer that was looked at|\bpass(?:ed)? (?:it|that|them) by\b|taken back by|takes? it back|look(?:ed)? at again"
    r"|\bcalls? on\b|\bas one would\b|as far as is known|\bWork it out\b|\bTell whether\b"
)
"""Words that say in a private way what the glossary has a word for."""

FITS = [
    "may dara reading.post in lower-gauges", "may bram moderate otto in river-talk", "describe dara", "describe host",
]  # fmt: skip
FITS += [
    "describe landowners", "tour bram", "tour dara", "tour rank:warden", "powers", "powers moderate", "powers assign",
]  # fmt: skip
FITS += ["powers call", "assign surveyor bram --as ines --plan", "rank grant host kit.lend --plan"]
FITS += ["member add ida 'Ida Reed' --plan", "member retire rosa --plan", "place add 'Tide talk' board --plan"]
LISTS = ["member list", "member list --holding volunteer", "member list --waiting"]


def texts() -> Iterator[tuple[str, str]]:
    """Every text constant of the package, and every document, without what stands in code marks."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
                yield f"{path.name}:{node.lineno}", re.sub(r"`+[^`]*`+", "", node.value)
    for path in [*(ROOT / "docs").rglob("*.md"), ROOT / "README.md", *(ROOT / "src").rglob("*.yaml")]:
        bare = re.sub(r"```.*?```", "", path.read_text("utf-8"), flags=re.DOTALL)
        yield path.name, re.sub(r"`+[^`]*`+", "", bare)


@pytest.mark.slow
def test_no_text_has_a_private_word() -> None:
    assert [(where, found[0]) for where, text in texts() for found in PRIVATE.finditer(text)] == []


@pytest.mark.slow
def test_no_output_has_one_either() -> None:
    """The whole table of what people type, and each command's help; the codes of advice are no words."""
    for typed, _, _ in TYPED:
        done = run(*shlex.split(typed), cwd=DEMO)
        found = PRIVATE.search(re.sub(r"\S+\.\S+|\[[a-z-]+[],]", "", done.stdout + done.stderr))
        assert found is None, (typed, found)


@pytest.mark.parametrize("typed", FITS)
def test_it_fits_a_screen_of_100_by_30(typed: str) -> None:
    lines = run(*shlex.split(typed), cwd=DEMO, COLUMNS="100").stdout.splitlines()
    assert len(lines) <= 30
    assert max(map(len, lines)) <= 100


@pytest.mark.parametrize("typed", LISTS)
@pytest.mark.parametrize("width", [100, 60])
def test_a_list_has_a_line_for_each(typed: str, width: int) -> None:
    lines = run(*shlex.split(typed), cwd=DEMO, COLUMNS=str(width)).stdout.splitlines()
    rows = run(*shlex.split(typed), "--format", "csv", cwd=DEMO).stdout.splitlines()[1:]
    shown = [line for line in lines if line.split() and line.split()[0] in {row.split(",")[0] for row in rows}]
    assert len(shown) == len(rows) or typed.endswith("--waiting")
    assert max(map(len, lines)) <= width


@pytest.mark.parametrize("typed", ["tour bram", "member list", "powers moderate", "describe host"])
@pytest.mark.parametrize("form", ["json", "csv"])
def test_full_changes_no_table(typed: str, form: str) -> None:
    bare, full = (run(*typed.split(), *more, "--format", form, cwd=DEMO).stdout for more in ([], ["--full"]))
    assert bare == full
    assert len(run(*typed.split(), "--full", cwd=DEMO).stdout) >= len(run(*typed.split(), cwd=DEMO).stdout)


@pytest.mark.slow
def test_a_long_list_ends_on_a_terminal_with_how_many_more_and_a_pipe_gets_all() -> None:
    def on_terminal(*typed: str) -> str:
        master, slave = pty.openpty()
        env = PLAIN | {"COLUMNS": "100", "TERM": "dumb"}
        with subprocess.Popen([sys.executable, "-m", "ask_above", *typed], stdout=slave, cwd=DEMO, env=env) as done:
            os.close(slave)
            said = b""
            while part := _read(master):
                said += part
            done.wait()
        os.close(master)
        return said.decode("utf-8")

    assert "and 10 more (--full)" in on_terminal("member", "list")
    assert "more (--full)" not in on_terminal("member", "list", "--full")
    assert "more (--full)" not in run("member", "list", cwd=DEMO).stdout


def _read(master: int) -> bytes:
    try:
        return os.read(master, 65536)
    except OSError:
        return b""


def bound_by(node: ast.AST, name: str) -> set[ast.AST]:
    """All that stands in comprehensions that bind the name themselves: there it lives no longer than they."""
    kinds = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
    inner = [each for each in ast.walk(node) if isinstance(each, kinds)]
    targets = ((each, ast.walk(part.target)) for each in inner for part in each.generators)
    binding = [each for each, walk in targets if any(isinstance(n, ast.Name) and n.id == name for n in walk)]
    return {below for each in binding for below in ast.walk(each)}


@pytest.mark.slow
def test_a_local_that_lives_for_long_says_what_it_holds() -> None:
    """Within three lines one sees where a value comes from; further down its name has to say it."""
    long = []
    for file in sorted((ROOT / "src").rglob("*.py")):
        for function in ast.walk(ast.parse(file.read_text("utf-8"))):
            if not isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef):
                continue
            names = [node for node in ast.walk(function) if isinstance(node, ast.Name)]
            for name in {"each", "found", "said", "told"} & {node.id for node in names}:
                inner = bound_by(function, name)
                outer = [node for node in names if node.id == name and node not in inner]
                bound = [node.lineno for node in outer if isinstance(node.ctx, ast.Store)]
                if bound and max(node.lineno for node in outer) - min(bound) > 3:
                    long.append(f"{file.relative_to(ROOT)}: {function.name}: {name}")
    assert long == []


MANY_OF_ONE = re.compile(r"(?<![\w.,:-])1 (?!is\b|has\b)[a-z]+s\b(?! than)")
ONE_OF_EACH = """\
charter: 1
key: one
rules:
  timezone: UTC
  advice: {most-high-risk: 0, most-unbounded: 0}
  authority: {moderate: {using: [member.mute]}}
capabilities: {All: {member.mute: {about: Mute, risk: high}}}
ranks: [{key: crew, grants: [member.mute], limit: 0, unbounded: yes}]
places: [{key: yard, kind: board, places: [{key: hall, kind: board}]}]
expectations: [crew may member.mute]
"""
OF_ONE = [
    "", "check", "check --advice", "cover", "who member.mute", "where ann member.mute", "grid", "ladder", "powers",
]  # fmt: skip
OF_ONE += ["describe crew", "describe hall", "describe ann", "roster", "roster --soon 1", "member list", "tour ann"]
OF_ONE += ["place copy yard shed --plan", "place remove yard --plan", "assign crew bo --plan", "member lock ann --plan"]
OF_ONE += [
    "report r.html", "export-table t.csv --members", "export out1 --ldif", "export out2 --scim", "export out3",
    "journal",
]  # fmt: skip


def test_one_thing_is_said_as_one(tmp_path: Path) -> None:
    (tmp_path / "charter.yaml").write_text(ONE_OF_EACH)
    (tmp_path / "members.csv").write_text("key,name,status\nann,Ann,active\nbo,Bo,pending\n")
    (tmp_path / "assignments.csv").write_text("member,rank,place,until\nann,crew,,2099-12-05\n")
    for command in OF_ONE:
        done = run(*command.split(), cwd=tmp_path)
        assert "Usage:" not in done.stderr, done.stderr
        assert not MANY_OF_ONE.findall(done.stdout + done.stderr), (command, done.stdout)
    page = re.sub(r"<script.*?</script>|<[^>]*>", "", (tmp_path / "r.html").read_text("utf-8"), flags=re.DOTALL)
    assert not MANY_OF_ONE.findall(page)


OF_THOUSANDS = [
    "check", "ladder", "who place.see", "who --risk high", "roster", "describe crew", "describe site",
    "describe hall", "cover", "cover --enter", "cover member.mute --at hall", "group list", "member list",
    "audit log.csv --usage", "rank withhold crew member.mute --plan", "member retire --group band --plan",
]  # fmt: skip


@pytest.mark.slow
def test_thousands_are_written_as_one_reads_them(tmp_path: Path) -> None:
    charter = """\
charter: 1
key: many
capabilities: {All: {place.see: See a place, member.mute: {about: Mute, risk: high}}}
ranks: [{key: top}, {key: crew, grants: [member.mute]}, {key: any, held-by: members, grants: [place.see]}]
groups: [{key: band}]
places: [{key: hall, kind: board, gate: {any: [crew]}}]
"""
    keys = [f"m{n}a" for n in range(1_200)]
    (tmp_path / "charter.yaml").write_text(charter)
    (tmp_path / "members.csv").write_text("key,groups\n" + "".join(f"{key},band\n" for key in keys))
    (tmp_path / "assignments.csv").write_text("member,rank\n" + "".join(f"{key},crew\n" for key in keys))
    rows = "".join("m1a,place.see,2026-05-01T12:00:00Z,site\n" for _ in keys)
    (tmp_path / "log.csv").write_text("member,action,when,place\n" + rows)
    written = set()
    for command in OF_THOUSANDS:
        done = run(*command.split(), cwd=tmp_path)
        assert done.returncode < 2, (command, done.stderr)
        words = done.stdout.split()
        assert [word for word in words if re.fullmatch(r"\(?1[12]\d\d\W*", word)] == [], command
        written |= {command} & {command for word in words if re.fullmatch(r"\(?1,[12]\d\d\W*", word)}
    assert len(written) > 10
