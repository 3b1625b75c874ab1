"""A charter in a git repository: a merge that gives something of high risk is stopped until somebody writes why.

The script makes a repository with the demo charter, lets a branch give board hosts the power to lock accounts, and asks
the gate (``gate_in_git/gate.sh``) before and after somebody has written why.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
WHO = {
    f"GIT_{role}_{what}": said
    for role in ("AUTHOR", "COMMITTER")
    for what, said in (("NAME", "Ines Moor"), ("EMAIL", "ines@river.example"))
}
ENV = os.environ | WHO | {"PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}"}


def run(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """Run a command in the repository."""
    return subprocess.run(words, cwd=folder, env=ENV, capture_output=True, text=True, check=False)  # noqa: S603


def ask_the_gate(folder: Path) -> None:
    """Say what the gate says of the branch."""
    done = run(folder, str(HERE / "gate_in_git" / "gate.sh"), "main", "wren-valley")
    print(f"The gate exits with {done.returncode}:")
    print("  " + "\n  ".join(done.stdout.splitlines()))


with tempfile.TemporaryDirectory() as made:
    repository = Path(made)
    run(repository, "git", "init", "-q", "-b", "main")
    run(repository, "ask-above", "demo", "wren-valley")
    # addresses of members belong in no repository: only the charter is kept in it
    (repository / ".gitignore").write_text("*.csv\nregister.db*\n*.xml\n")
    run(repository, "git", "add", "-A")
    run(repository, "git", "commit", "-q", "-m", "The charter as it is")
    run(repository, "git", "checkout", "-q", "-b", "hosts-may-lock")
    charter = repository / "wren-valley" / "charter.yaml"
    charter.write_text(
        charter.read_text().replace("grants: [calming, thread.close", "grants: [member.lock, calming, thread.close")
    )
    run(repository, "git", "commit", "-q", "-am", "Hosts may lock accounts")
    ask_the_gate(repository)
    why = "High-risk-because: Ada is away until May, and hosts are there every day"
    run(repository, "git", "commit", "-q", "--allow-empty", "-m", "Hosts stand in for Ada", "--trailer", why)
    print()
    ask_the_gate(repository)
    shutil.rmtree(repository / ".git")
