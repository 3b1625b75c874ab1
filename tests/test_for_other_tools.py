"""In the tools that people already have: their repository, their test runner, their shell, their editor."""

from __future__ import annotations

import html
import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as ET

import jsonschema
import nbformat
import pytest
import yaml
from nbclient import NotebookClient

from ask_above import Community, QuestionError
from ask_above.change import Assign
from ask_above.charter.changes import withholding
from ask_above.cli.completion import words_as_options
from ask_above.cli.main import main
from commands import as_process, git, run
from conftest import DEMO

ROOT = Path(__file__).parent.parent
ESSENTIALS = json.loads((Path(__file__).parent / "data" / "sarif-essentials.json").read_text("utf-8"))
RISKY = ("grants: [calming, thread.close, place.pin]", "grants: [calming, thread.close, place.pin, member.lock]")


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    return tmp_path / "river"


def edit(folder: Path, old: str, new: str, name: str = "charter.yaml") -> None:
    file = folder / name
    text = file.read_text("utf-8")
    assert old in text
    file.write_text(text.replace(old, new, 1), "utf-8")


@pytest.fixture
def in_git(here: Path) -> Path:
    git(here.parent, "init", "-q", "-b", "main", ".")
    git(here.parent, "add", "-A")
    git(here.parent, "commit", "-q", "-m", "As it was")
    return here


# -- SARIF and JUnit


def sarif(*words: str, cwd: Path) -> tuple[int, dict[str, Any]]:
    done = run(*words, "--format", "sarif", cwd=cwd)
    log = json.loads(done.stdout)
    jsonschema.validate(log, ESSENTIALS)
    (only,) = log["runs"]
    for each in only["results"]:
        assert only["tool"]["driver"]["rules"][each["ruleIndex"]]["id"] == each["ruleId"]
    marks = [each["partialFingerprints"]["askAboveFinding/v1"] for each in only["results"]]
    assert len(set(marks)) == len(marks)
    return done.returncode, only


class TestSarif:
    def test_what_a_check_finds_stands_at_its_line_in_a_file_relative_to_here(self, here: Path) -> None:
        status, log = sarif("check", "--community", "river", cwd=here.parent)
        assert status == log["invocations"][0]["exitCode"] == 1
        first = log["results"][0]
        assert (first["ruleId"], first["level"]) == ("unmet", "error")
        spot = first["locations"][0]["physicalLocation"]
        assert spot["artifactLocation"] == {"uri": "river/charter.yaml", "uriBaseId": "%SRCROOT%"}
        line = (here / "charter.yaml").read_text("utf-8").splitlines()[spot["region"]["startLine"] - 1]
        assert "volunteer may reading.post in lower-gauges" in line
        assert str(here) not in json.dumps(log)
        assert {"undecided", "detour"} <= {each["ruleId"] for each in log["results"] if each["level"] == "note"}

    def test_a_finding_is_known_again_when_lines_come_in_above_it(self, here: Path) -> None:
        def marks() -> dict[str, str]:
            results = sarif("check", cwd=here)[1]["results"]
            return {each["message"]["text"]: each["partialFingerprints"]["askAboveFinding/v1"] for each in results}

        before = marks()
        edit(here, "rules:\n", "# a line more\nrules:\n")
        assert marks() == before

    def test_faults_of_files_have_line_and_column(self, here: Path) -> None:
        edit(here, "builds-on: [surveyor]", "builds-on: [survayor]")
        status, log = sarif("check", cwd=here)
        (only,) = log["results"]
        assert (status, log["invocations"][0]["exitCode"]) == (2, 2)
        assert "Nearest: surveyor" in only["message"]["text"]
        region = only["locations"][0]["physicalLocation"]["region"]
        line = (here / "charter.yaml").read_text("utf-8").splitlines()[region["startLine"] - 1]
        assert line[region["startColumn"] - 1 :].startswith("survayor")

    def test_columns_count_characters(self, here: Path) -> None:
        edit(here, "title: Journal editor", 'title: "𝕁ournal editor", grunts: []')
        edit(here, "  - key: editor\n    title", "  - {key: editor, title")
        assert run("check", "--format", "sarif", cwd=here).returncode == 2

    def test_an_impact_says_what_is_gained_of_high_risk_and_where_it_is_given(self, here: Path) -> None:
        shutil.copytree(here, here.parent / "after")
        edit(here.parent / "after", *RISKY)
        status, log = sarif("impact", "river", "after", cwd=here.parent)
        first = log["results"][0]
        assert (status, first["ruleId"], first["level"]) == (1, "gained-high-risk", "error")
        assert "Board host (1 member) gains" in first["message"]["text"]
        assert "member.lock" in first["message"]["text"]
        spot = first["locations"][0]["physicalLocation"]
        assert spot["artifactLocation"]["uri"] == "after/charter.yaml"
        lines = (here.parent / "after" / "charter.yaml").read_text("utf-8").splitlines()
        assert "member.lock" in lines[spot["region"]["startLine"] - 1]
        status, log = sarif("impact", "after", "river", cwd=here.parent)
        assert status == 0
        assert {each["level"] for each in log["results"]} == {"note"}


class TestJunit:
    def cases(self, *words: str, cwd: Path) -> tuple[int, ET.Element]:
        done = run(*words, "--format", "junit", cwd=cwd)
        root = ET.fromstring(done.stdout)  # noqa: S314 (our own)
        (suite,) = root
        assert (root.tag, suite.tag) == ("testsuites", "testsuite")
        found = suite.findall("testcase")
        counted = {kind: sum(case.find(kind) is not None for case in found) for kind in ("failure", "error")}
        assert int(suite.attrib["tests"]) == len(found)
        assert (int(suite.attrib["failures"]), int(suite.attrib["errors"])) == (counted["failure"], counted["error"])
        assert {"name", "skipped", "time", "timestamp", "hostname"} <= suite.attrib.keys()
        for case in found:
            assert case.attrib.keys() == {"classname", "name", "time"}
        return done.returncode, suite

    def test_each_expectation_is_a_case_and_its_answer_the_failure(self, here: Path) -> None:
        status, suite = self.cases("check", cwd=here)
        expectations = Community.open(here).charter.expectations
        assert [case.attrib["name"] for case in suite] == [each.text for each in expectations]
        assert (status, suite.attrib["failures"]) == (1, "3")
        failure = suite[1][0]
        assert failure.attrib["message"] == "Volunteer may not."
        assert "The place Lower gauges denies reading.post to Volunteer" in (failure.text or "")

    def test_where_advice_counts_it_fails(self, here: Path) -> None:
        _, suite = self.cases("check", "--strict", cwd=here)
        assert "undecided" in [case.attrib["name"] for case in suite if case.find("failure") is not None]

    def test_faults_are_errors_and_what_others_wrote_is_text(self, here: Path) -> None:
        edit(here, "title: Journal editor", 'title: "<b>\\u0007&"\n    grunts: [x]')
        status, suite = self.cases("check", cwd=here)
        assert (status, suite.attrib["errors"], suite.attrib["failures"]) == (2, "1", "0")

    def test_a_change_is_held_to_nothing_risky_and_to_what_held(self, here: Path) -> None:
        shutil.copytree(here, here.parent / "after")
        edit(here.parent / "after", *RISKY)
        edit(here.parent / "after", "member may not post.write in notices", "member may post.write in notices")
        status, suite = self.cases("impact", "river", "after", cwd=here.parent)
        failed = [case.attrib["name"] for case in suite if case.find("failure") is not None]
        assert status == 1
        assert failed[0] == "nobody gains a high-risk capability"
        assert any("member may post.write in notices" in each for each in failed[1:])


# -- a git repository


class TestRevisions:
    def test_the_state_of_a_branch_is_what_impact_compares_with(self, in_git: Path) -> None:
        edit(in_git, *RISKY)
        done = run("impact", "git:main", cwd=in_git)
        assert done.returncode == 1
        assert "+ member.lock (high risk) on the whole site" in done.stdout
        git(in_git, "checkout", "-q", "--", ".")
        assert run("impact", "git:HEAD", cwd=in_git).returncode == 0

    def test_where_no_members_are_kept_there_those_of_now_count(self, in_git: Path) -> None:
        git(in_git, "rm", "-q", "--cached", "members.csv", "assignments.csv")
        git(in_git, "commit", "-q", "-m", "No addresses in here")
        community = Community.open(in_git)
        assert community.as_of("git:main").register.members.keys() == community.register.members.keys()
        community.plan(Assign("tove", "surveyor")).apply()
        assert not run("impact", "git:main", cwd=in_git).stdout.count("Tove")

    @pytest.mark.parametrize(
        ("state", "said"),
        [
            ("git:nowhere", "has no revision 'nowhere'"),
            ("git:--output=x", "has no revision '--output=x'"),
            ("main", "git:main"),
        ],
    )
    def test_what_is_no_revision_is_told(self, in_git: Path, state: str, said: str) -> None:
        with pytest.raises(QuestionError, match=said.replace("(", r"\(")):
            Community.open(in_git).as_of(state)

    def test_a_folder_outside_of_any_repository_is_told(self, here: Path) -> None:
        done = run("impact", "git:main", cwd=here, GIT_CEILING_DIRECTORIES=str(here.parent))
        assert done.returncode == 2
        assert "lies in no git repository" in done.stderr


# -- pytest


QUIET = ("-p", "no:cacheprovider", "-p", "no:xdist")


def run_tests(*words: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "pytest", *QUIET, *words]
    return subprocess.run(command, capture_output=True, text=True, check=False, cwd=cwd, env=os.environ)


RunHere = Callable[..., pytest.RunResult]


@pytest.fixture
def run_here(pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch) -> RunHere:
    """Run pytest with its plugin within this process, which is quicker."""

    def run_in(*words: str, cwd: Path) -> pytest.RunResult:
        monkeypatch.chdir(cwd)
        return pytester.runpytest_inprocess(*QUIET, *words)

    return run_in


class TestPlugin:
    @pytest.mark.slow
    def test_each_expectation_is_a_test_with_its_answer(self, here: Path) -> None:
        done = run_tests("--charter", str(here), cwd=here.parent)
        assert done.returncode == 1
        assert "3 failed, 15 passed" in done.stdout
        assert "The place Lower gauges denies reading.post to Volunteer" in done.stdout
        assert "Traceback" not in done.stdout + done.stderr

    @pytest.mark.slow
    def test_alone_it_runs_nothing_else_and_beside_named_tests_both(self, here: Path, run_here: RunHere) -> None:
        (here.parent / "test_else.py").write_text("def test_else():\n    pass\n")
        assert "18 items" in run_here("--charter", "river", cwd=here.parent).stdout.str()
        assert "19 items" in run_here("--charter", "river", "test_else.py", cwd=here.parent).stdout.str()
        chosen = run_here("--charter", "river", "-k", "photo.upload", cwd=here.parent)
        assert "1 failed, 17 deselected" in chosen.stdout.str()

    @pytest.mark.slow
    def test_what_is_gained_since_a_branch_is_a_test(self, in_git: Path, run_here: RunHere) -> None:
        held = run_here("--charter", "river", "--charter-against", "git:main", "-k", "risk", cwd=in_git.parent)
        assert "1 passed" in held.stdout.str()
        edit(in_git, *RISKY)
        failed = run_here("--charter", "river", "--charter-against", "git:main", "-k", "risk", cwd=in_git.parent)
        assert "member.lock" in failed.stdout.str()
        assert failed.ret == 1

    @pytest.mark.slow
    def test_what_is_wrong_is_told_without_a_traceback(self, here: Path, run_here: RunHere) -> None:
        nowhere = run_here("--charter", "nowhere", cwd=here)
        assert nowhere.ret == 4
        assert "There is no charter.yaml" in nowhere.stderr.str()
        edit(here, "builds-on: [surveyor]", "builds-on: [survayor]")
        faulty = run_here("--charter", ".", cwd=here)
        assert "nearest:  surveyor" in faulty.stdout.str()
        assert "Traceback" not in faulty.stdout.str() + faulty.stderr.str()
        assert run_here("--charter-against", "git:main", cwd=here).ret == 4

    @pytest.mark.slow
    def test_nothing_is_imported_until_a_charter_is_named(self, tmp_path: Path) -> None:
        (tmp_path / "test_it.py").write_text(
            "import sys\n\ndef test_it():\n"
            "    light = 'lazily version pytest_plugin printing show show.shown'.split()\n"
            "    known = {'ask_above', *(f'ask_above.{each}' for each in light)}\n"
            "    assert {m for m in sys.modules if m.startswith('ask_above')} <= known\n"
            "    assert not {'click', 'numpy', 'pandas', 'sqlalchemy', 'rich', 'yaml'} & {*sys.modules}\n"
        )
        assert "1 passed" in run_tests(str(tmp_path / "test_it.py"), cwd=tmp_path).stdout


def test_the_hook_for_a_repository_names_a_command_that_there_is() -> None:
    (hook,) = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text("utf-8"))
    assert hook["entry"].split()[:2] == ["ask-above", "check"]
    assert {"id", "name", "language", "files", "pass_filenames"} <= hook.keys()


# -- shells and editors


class TestCompletion:
    @pytest.mark.parametrize(
        ("typed", "offered"),
        [
            ("may br", "bram"),
            ("may bram thread.", "thread.close"),
            ("may bram post.write in riv", "river-talk"),
            ("may bram post.write --at riv", "river-talk"),
            ("may bram moderate dar", "dara"),
            ("may bram moderate dara using member.m", "member.mute"),
            ("assign surv", "surveyor"),
            ("assign surveyor tov", "tove"),
            ("member lock --as ine", "ines"),
            ("group se", "set"),
            ("lad", "ladder"),
        ],
    )
    def test_names_of_the_community_are_offered(self, typed: str, offered: str) -> None:
        words = f"ask-above {typed}"
        asked = {"COMP_WORDS": words, "COMP_CWORD": str(len(words.split()) - 1)}
        done = run(cwd=DEMO, _ASK_ABOVE_COMPLETE="bash_complete", **asked)
        assert f"plain,{offered}" in done.stdout.splitlines()

    def test_titles_are_told_beside_where_a_shell_shows_them(self) -> None:
        asked = {"COMP_WORDS": "ask-above assign surv", "COMP_CWORD": "surv"}
        done = run(cwd=DEMO, _ASK_ABOVE_COMPLETE="fish_complete", **asked)
        assert done.stdout == "plain,surveyor\tSurveyor\n"

    def test_nothing_is_said_where_there_is_nothing_to_offer(self, tmp_path: Path) -> None:
        for words in ("ask-above may br", "ask-above no-such x", "ask-above member no-such x"):
            done = run(cwd=tmp_path, _ASK_ABOVE_COMPLETE="bash_complete", COMP_WORDS=words, COMP_CWORD="2")
            assert (done.stdout.strip(), done.stderr) == ("", "")

    @pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
    def test_each_shell_has_its_script(self, shell: str) -> None:
        done = run("--completion", shell)
        assert done.returncode == 0
        assert f"{shell}_complete" in done.stdout

    @pytest.mark.slow
    def test_bash_completes_with_it(self) -> None:
        script = (
            'PATH="$1:$PATH"; source <(ask-above --completion bash)\n'
            "COMP_WORDS=(ask-above may dara post.write in not) COMP_CWORD=5\n"
            '_ask_above_completion ask-above; echo "${COMPREPLY[@]}"\n'
        )
        done = subprocess.run(
            [shutil.which("bash") or "bash", "-c", script, "bash", str(Path(sys.executable).parent)],
            capture_output=True,
            text=True,
            check=True,
            cwd=DEMO,
        )
        assert done.stdout == "notices\n"

    def test_a_word_is_the_option_that_it_stands_for(self) -> None:
        words = ["may", "bram", "post.write", "in", "notices", "by"]
        assert words_as_options(main, words) == ["may", "bram", "post.write", "--at", "notices", "--author"]


class TestSchemaWithNames:
    @pytest.mark.slow
    def test_its_own_names_are_offered_and_others_are_no_fault(self) -> None:
        schema = json.loads(run("check", "--schema", "--with-names", cwd=DEMO).stdout)
        jsonschema.Draft202012Validator.check_schema(schema)
        charter = yaml.safe_load((DEMO / "charter.yaml").read_text("utf-8"))
        jsonschema.validate(charter, schema)
        rank = schema["properties"]["ranks"]["items"]["properties"]
        assert "surveyor" in rank["builds-on"]["items"]["anyOf"][0]["enum"]
        assert {"post.edit", "post.edit.all", "housekeeping"} <= {*rank["grants"]["items"]["anyOf"][0]["enum"]}
        place = schema["$defs"]["place"]["properties"]
        assert {"warden+", "upper-team", "host"} <= place["overrides"]["properties"].keys()
        assert "bram" in place["exceptions"]["properties"]
        assert "gauge-log" in place["kind"]["anyOf"][0]["enum"]
        charter["ranks"][3]["builds-on"] = ["somebody-new"]
        jsonschema.validate(charter, schema)

    def test_the_plain_schema_needs_no_community(self, tmp_path: Path) -> None:
        assert run("check", "--schema", cwd=tmp_path).returncode == 0
        done = run("check", "--with-names", cwd=DEMO)
        assert (done.returncode, "goes with --schema" in done.stderr) == (2, True)


@pytest.mark.slow
def test_the_program_itself_completes_and_writes_sarif(here: Path) -> None:
    done = as_process("check", "--format", "sarif", cwd=here)
    assert json.loads(done.stdout)["version"] == "2.1.0"
    asked = {"COMP_WORDS": "ask-above may br", "COMP_CWORD": "2"}
    assert as_process(cwd=here, _ASK_ABOVE_COMPLETE="bash_complete", **asked).stdout == "plain,bram\n"


# -- notebooks


class TestNotebooks:
    @pytest.mark.slow
    def test_every_answer_shows_what_its_command_prints(self) -> None:
        c = Community.demo()
        answers: list[Any] = [
            c,
            c.may("dara", "post.write", at="notices"),
            c.tour("bram"),
            c.ways("dara", "reading.post", at="lower-gauges"),
            c.cover(),
            c.climb("warden"),
            c.fit(["rota.plan"]),
            c.compare("rank:host", "rank:warden"),
            c.roster(),
            c.advice(),
            c.describe("host"),
            c.impact(c.after(charter=withholding(c.charter, "volunteer", ["photo.upload"]))),
        ]
        for answer in answers:
            text = html.unescape(re.sub(r"<style>.*?</style>|<[^>]+>", "", answer._repr_html_(), flags=re.DOTALL))
            assert len(text) > 50, answer
            if not isinstance(answer, Community):
                said = " ".join(str(answer).split())[:60]
                assert said[:20] in " ".join(text.split()), answer

    def test_a_plan_and_what_others_wrote_is_text(self, here: Path) -> None:
        edit(here, "title: Board host", 'title: "<img src=x onerror=alert(1)>"')
        shown = Community.open(here).plan(Assign("tove", "host"))._repr_html_()
        assert "<img" not in shown
        assert "&lt;img src=x" in shown

    @pytest.mark.slow
    def test_the_example_runs_from_top_to_bottom(self) -> None:
        notebook = nbformat.read(ROOT / "examples" / "river_watch.ipynb", 4)  # type: ignore[no-untyped-call]
        done = NotebookClient(notebook, timeout=180).execute()
        shown = [out for cell in done.cells if cell.cell_type == "code" for out in cell.outputs]
        assert all("text/html" in out["data"] for out in shown)
        assert "The place Lower gauges denies reading.post to Volunteer" in shown[1]["data"]["text/html"]


# -- the package itself


@pytest.mark.slow
def test_a_strict_project_finds_the_types(tmp_path: Path) -> None:
    (tmp_path / "uses.py").write_text(
        "from ask_above import Answer, Community\n\n\n"
        "def told(community: Community) -> str:\n"
        '    answer: Answer = community.may("petra", "post.edit", at="field-talk")\n'
        "    return answer.reason if answer else answer.steps[0].text\n\n\n"
        "reveal_type(Community.demo().register)\n"
    )
    config = tmp_path / "mypy.ini"
    # what the large packages below say of themselves is none of this, and takes long to read
    below = "numpy.*,pandas.*,sqlalchemy.*,matplotlib.*"
    config.write_text(f"[mypy]\nstrict = true\n[mypy-{below}]\nfollow_imports = skip\n")
    command = [sys.executable, "-m", "mypy", "--config-file", str(config), "--cache-dir", str(tmp_path), "uses.py"]
    done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=tmp_path)
    assert "Success" in done.stdout, done.stdout
    assert "ask_above.people.register.Register" in done.stdout


def test_asking_imports_none_of_the_heavy_packages() -> None:
    code = (
        "import sys; from ask_above import Community; c = Community.demo();"
        "assert c.may('petra', 'post.edit', at='field-talk', author='tomas') is not None;"
        "print(*sorted({'pandas', 'matplotlib', 'sqlalchemy', 'starlette', 'dask'} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == ""
