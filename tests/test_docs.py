"""What the documents show is what the program says: pages typed along, references made anew, examples run."""

from __future__ import annotations

import importlib.util
import re
import shlex
import shutil
from pathlib import Path
from types import ModuleType

import pyarrow as pa
import pytest
from click.testing import CliRunner
from pyarrow import csv
from pyarrow import parquet as pq

import ask_above
from ask_above import Community
from ask_above.change import MemberSet
from ask_above.charter.names import SITE
from ask_above.cli.main import COMMANDS, main
from commands import git, run
from conftest import DEMO
from directories import societies

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
MAPPING = """name: sisters
directory: river.ldif
people: {base: "ou=people,dc=sisters,dc=example", number: employeeNumber, key: uid, name: cn, email: mail}
"""
TROUBLES = sorted((DOCS / "troubles").glob("[0-9]*.md"), key=lambda page: int(page.name.split("-")[0]))


def typed_along(page: Path, folder: Path) -> int:
    """Write every file and run every command of a page; what it shows must be said. Return how many commands."""
    commands = 0
    for part in page.read_text("utf-8").split("```")[1::2]:
        kind, _, text = part.partition("\n")
        if kind.startswith("yaml "):
            file = folder / kind.split()[1]
            file.parent.mkdir(exist_ok=True)
            file.write_text(text, "utf-8")
        for shown in text.split("$ ")[1:] if not kind else ():
            command, *wanted = shown.strip().splitlines()
            done = run(*shlex.split(command)[1:], cwd=folder)
            said = " ".join((done.stdout + done.stderr).split())
            assert "Usage:" not in said, said
            for line in wanted:
                assert " ".join(line.split()) in said, f"{command}\n{line}\n{said}"
            commands += 1
    return commands


def test_there_are_eleven_troubles_and_the_list_names_them_all() -> None:
    listed = (DOCS / "troubles" / "README.md").read_text("utf-8")
    titles = [page.read_text("utf-8").splitlines()[0].removeprefix("# ") for page in TROUBLES]
    assert len(titles) == 11
    for number, (page, title) in enumerate(zip(TROUBLES, titles, strict=True), 1):
        assert f"{number}. [{title}]({page.name})" in listed


@pytest.mark.parametrize("page", TROUBLES, ids=lambda page: page.stem)
@pytest.mark.slow
def test_a_trouble_is_answered_as_its_page_says_and_ends_with_the_command(page: Path, tmp_path: Path) -> None:
    shutil.copytree(DEMO, tmp_path / "river")
    assert typed_along(page, tmp_path / "river") >= 1
    last = page.read_text("utf-8").rstrip().splitlines()[-1]
    found = re.fullmatch(r"\*\*The command:\*\* `ask-above ([a-z-]+)[^`]*`", last)
    assert found
    assert found[1] in COMMANDS


@pytest.fixture(scope="module")
def make() -> ModuleType:
    spec = importlib.util.spec_from_file_location("make", DOCS / "make.py")
    assert spec
    assert spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize(
    "name", ["charter-format.md", "commands.md", "python.md", pytest.param("examples.md", marks=pytest.mark.slow)]
)
def test_the_references_are_what_the_program_says_of_itself(make: ModuleType, name: str) -> None:
    assert (DOCS / name).read_text("utf-8") == make.FILES[name](), "run: python docs/make.py"


def test_the_reference_of_commands_shows_what_help_shows() -> None:
    text = (DOCS / "commands.md").read_text("utf-8")
    for command in (["check"], ["place", "list"], ["climb"]):
        usage, _, rest = run(*command, "--help", COLUMNS="80").stdout.partition("\n\n")
        assert rest.strip() in text
        assert usage in text


def test_every_command_has_a_help_with_an_example_and_a_place_in_the_reference(make: ModuleType) -> None:
    text = make.commands()
    for name in COMMANDS:
        part = text.partition(f"\n### {name}\n")[2].partition("\n### ")[0]
        assert f"ask-above {name}" in part.partition("Example")[2], name


def test_every_subcommand_has_a_help_with_an_example() -> None:
    import click

    ctx = click.Context(main)
    for name in main.list_commands(ctx):
        command = main.get_command(ctx, name)
        for under, each in command.commands.items() if isinstance(command, click.Group) else ():
            assert f"ask-above {name} {under}" in (each.help or ""), f"{name} {under}"


@pytest.fixture(scope="module")
def scenery(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """All the files that the examples of the commands name; the community that they are typed in is ``first``."""
    tmp_path = tmp_path_factory.mktemp("scenery")
    first = tmp_path / "first"
    shutil.copytree(DEMO, first)
    for key in [*Community.open(first).register.members][:14]:  # so that there are changes of those numbers
        Community.open(first).plan(MemberSet(key, {"note": "Seen"})).apply()
    for words in (["init", "-q", "-b", "main"], ["add", "."], ["commit", "-q", "-m", "As it stands"]):
        git(first, *words)
    scene = tmp_path / "scene"
    for name in ("wren-valley", "wren-valley-before", "river/wren-valley", "river/before", "river/after"):
        shutil.copytree(DEMO, scene / name)
    (tmp_path / "newcomers.csv").write_text("key,name\nwilma,Wilma Brook\n", "utf-8")
    (tmp_path / "assignments.put-aside.csv").write_text("member,rank\nbram,surveyor\n", "utf-8")
    (tmp_path / "course.csv").write_text("key\nbram\n", "utf-8")
    (tmp_path / "plan.xlsx").write_bytes(_plan())
    (tmp_path / "forum.jsonl").write_text(
        '{"user": "bram", "ts": "2026-05-01T10:00:00Z", "capability": "post.write"}\n'
    )
    (tmp_path / "directory.yaml").write_text(MAPPING, "utf-8")
    (tmp_path / "river.ldif").write_text(societies(3, 3), "utf-8")
    shutil.copytree(first, tmp_path / "communities" / "wren-valley")
    (tmp_path / "platform" / "members").mkdir(parents=True)
    pq.write_table(pa.table({"key": ["ida", "lou"]}), tmp_path / "platform" / "members" / "1.parquet")
    (tmp_path / "logs").mkdir()
    pq.write_table(csv.read_csv(DEMO / "actions.csv.gz"), tmp_path / "logs" / "part-0.parquet")
    return tmp_path


PARTS = 8
"""In so many parts, so that several processes share the work."""


@pytest.mark.slow
@pytest.mark.parametrize("part", range(PARTS))
def test_every_example_in_a_help_can_be_typed_as_it_stands(
    make: ModuleType, scenery: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, part: int
) -> None:
    shown = sorted(set(re.findall(r"^    ask-above (.*)$", make.commands(), re.MULTILINE)))
    assert len(shown) > 70
    apart = {"first", "scene"}
    for each in (scenery / "scene").iterdir():
        (tmp_path / each.name).symlink_to(each)
    for n, example in enumerate(shown[part::PARTS]):
        if example.startswith("serve"):
            continue  # it runs until it is stopped
        river = tmp_path / f"river-{n}"
        shutil.copytree(scenery / "first", river)
        for each in (
            *(scenery / "scene" / "river").iterdir(),
            *(each for each in scenery.iterdir() if each.name not in apart),
        ):
            (river / each.name).symlink_to(each)
        monkeypatch.chdir(river)
        if example.startswith("token remove"):
            CliRunner().invoke(main, ["token", "add", shlex.split(example)[-1]])
        done = CliRunner().invoke(main, shlex.split(example))
        if "No terminal to ask on: add" in done.output:
            continue  # it asks for what is not given
        if "No terminal to ask on" in done.output:
            done = CliRunner().invoke(main, [*shlex.split(example), "--yes"])
        assert done.exception is None, f"{example}\n{done.output}\n{done.exception!r}"


def _plan() -> bytes:
    """A table of ranks and capabilities, as somebody might have it."""
    import io

    import openpyxl

    book = openpyxl.Workbook()
    for row in (["", "Chair", "Member"], ["Write posts", "x", "x"], ["Remove posts", "x", ""]):
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def test_the_format_names_every_key_of_the_demo(make: ModuleType) -> None:
    text = make.format_reference()
    keys = {
        key
        for line in (DEMO / "charter.yaml").read_text("utf-8").splitlines()
        for key in re.findall(r"([a-z-]+): ", line)
    }
    known = set(re.findall(r"\| `([a-z-]+)`", text))
    assert {"copied-from", "apart-from", "leads-to", "teaser", "hand-on", "most-unbounded", "bar"} <= keys & known
    assert SITE in known


def test_links_between_the_documents_lead_somewhere() -> None:
    for page in [ROOT / "README.md", *DOCS.rglob("*.md")]:
        for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", page.read_text("utf-8")):
            if "://" not in target:
                assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_the_files_that_documents_name_are_there() -> None:
    package = Path(ask_above.__file__).parent
    rooms = {each.name for each in package.iterdir() if each.is_dir()}
    for page in DOCS.glob("*.md"):
        for name in re.findall(r"`([a-z_]+/[a-z_/]+\.py)`", page.read_text("utf-8")):
            at = package if name.split("/")[0] in rooms else ROOT
            assert (at / name).is_file() or name.endswith("cli/kinds.py"), f"{page.name}: {name}"


def test_the_python_of_the_readme_runs_as_it_stands(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copytree(DEMO, tmp_path / "wren-valley")
    said: dict[str, object] = {}
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text("utf-8"), re.DOTALL)
    assert len(blocks) >= 4
    for block in blocks:
        exec(compile(block, "README.md", "exec"), said)  # noqa: S102 (that is what is tested)
    assert (tmp_path / "grid.svg").is_file()
