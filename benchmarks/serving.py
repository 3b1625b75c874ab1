"""What a decision over HTTP costs, beside a bare endpoint of the same framework that reads the same JSON.

python benchmarks/serving.py [SECONDS]

Needs wrk. Pairs are measured one after the other, in turns, on one worker each; every line is a ratio within this run.
"""

from __future__ import annotations

import json
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

import httpx
import msgspec
import pandas as pd
from large_register import write

from ask_above import Community
from ask_above.change import Assign, Unassign

BARE = """
import msgspec
from starlette.applications import Starlette
from starlette.responses import Response
from starlette.routing import Route

async def answer(request):
    msgspec.json.decode(await request.body())
    return Response(b'{"decision":true}', media_type="application/json")

app = Starlette(routes=[Route("/access/v1/evaluation", answer, methods=["POST"])])
"""


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def running(*command: str, port: int, cwd: Path) -> Iterator[str]:
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(1200):
            with socket.socket() as one:
                if one.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait(20)


def script(folder: Path, bodies: list[bytes], path: str) -> Path:
    """A script for wrk that sends these bodies in turn."""
    lines = ",\n".join(json.dumps(body.decode()) for body in bodies)
    file = folder / f"wrk-{path.rpartition('/')[2]}.lua"
    file.write_text(
        f"local bodies = {{{lines}}}\nlocal n = 0\n"
        'local head = {["Content-Type"] = "application/json"}\n'
        f'request = function() n = n % #bodies + 1; return wrk.format("POST", "{path}", head, bodies[n]) end\n'
    )
    return file


def throughput(url: str, lua: Path, seconds: float) -> tuple[float, float]:
    """Requests a second, and the 99th percentile in milliseconds."""
    command = ["wrk", "-t1", "-c8", f"-d{max(1, round(seconds))}s", "--latency", "-s", str(lua), url]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    rate = float(re.search(r"Requests/sec:\s+([\d.]+)", said)[1])  # type: ignore[index]
    value, unit = re.search(r"99%\s+([\d.]+)(us|ms|s)", said).groups()  # type: ignore[union-attr]
    if "Non-2xx" in said:
        raise RuntimeError(said)
    return rate, float(value) * {"us": 0.001, "ms": 1.0, "s": 1000.0}[unit]


def questions(community: Community, count: int) -> list[dict[str, object]]:
    members, places = [*community.register.members], [*community.charter.places]
    names = community.charter.catalogue.keys
    return [
        {
            "subject": {"type": "member", "id": members[n * 7 % len(members)]},
            "action": {"name": names[n * 5 % len(names)]},
            "resource": {"type": "place", "id": places[n * 3 % len(places)]},
        }
        for n in range(count)
    ]


def one_evaluation(name: str, folder: Path, seconds: float) -> None:
    community = Community.open(folder)
    lua = script(folder, [msgspec.json.encode(each) for each in questions(community, 400)], "/access/v1/evaluation")
    (folder / "bare.py").write_text(BARE)
    ours, bare = free_port(), free_port()
    serve = (sys.executable, "-m", "ask_above", "serve", "--quiet", "--port", str(ours))
    plain = (
        sys.executable,
        "-m",
        "uvicorn",
        "bare:app",
        "--port",
        str(bare),
        "--no-access-log",
        "--log-level",
        "error",
    )
    with running(*serve, port=ours, cwd=folder) as our_url, running(*plain, port=bare, cwd=folder) as bare_url:
        throughput(our_url, lua, 1), throughput(bare_url, lua, 1)
        pairs = [(throughput(our_url, lua, seconds)[0], throughput(bare_url, lua, seconds)[0]) for _ in range(4)]
    ratio = median(mine / theirs for mine, theirs in pairs)
    rate = median(mine for mine, _ in pairs)
    print(f"one evaluation, {name}: {ratio:.2f} of a bare endpoint's requests a second ({rate:.0f} a second)")


def a_hundred(folder: Path, seconds: float) -> None:
    community = Community.open(folder)
    items = questions(community, 100)
    lua = script(folder, [msgspec.json.encode({"evaluations": items})], "/access/v1/evaluations")
    body = msgspec.json.encode({"evaluations": items})

    def bare() -> None:
        read = msgspec.json.decode(body)["evaluations"]
        frame = pd.DataFrame(
            [(e["subject"]["id"], e["action"]["name"], e["resource"]["id"]) for e in read],
            columns=["member", "capability", "place"],
        )
        msgspec.json.encode({"evaluations": [{"decision": bool(each)} for each in community.may_many(frame)]})

    bare()
    start, count = time.perf_counter(), 0
    while time.perf_counter() - start < seconds:
        bare()
        count += 1
    alone = (time.perf_counter() - start) / count
    port = free_port()
    serve = (sys.executable, "-m", "ask_above", "serve", "--quiet", "--port", str(port))
    with running(*serve, port=port, cwd=folder) as url:
        throughput(url, lua, 1)
        rate, _ = throughput(url, lua, seconds)
    print(f"a hundred in one request: {1 / rate / alone:.2f} times may_many and bare JSON of the same items")


def while_it_changes(folder: Path, seconds: float) -> None:
    community = Community.open(folder)
    lua = script(folder, [msgspec.json.encode(each) for each in questions(community, 400)], "/access/v1/evaluation")
    port = free_port()
    serve = (sys.executable, "-m", "ask_above", "serve", "--quiet", "--port", str(port))
    with running(*serve, port=port, cwd=folder) as url:
        throughput(url, lua, 1)
        _, still = throughput(url, lua, seconds)
        with subprocess.Popen(
            [sys.executable, str(Path(__file__)), "--change", str(folder), str(seconds)], stdout=subprocess.DEVNULL
        ) as changing:
            _, busy = throughput(url, lua, seconds)
            changing.wait()
    print(f"while changes come: p99 {busy / still:.2f} times that of a still community ({busy:.2f} ms)")


def while_it_is_edited(folder: Path) -> None:
    """Edit a large charter by hand while it is served, its register in the database."""
    subprocess.run(
        [sys.executable, "-m", "ask_above", "member", "note", "m17", "first", "--yes", "--community", str(folder)],
        stdout=subprocess.DEVNULL,
        check=True,
    )
    start = time.perf_counter()
    community = Community.open(folder)
    opening = time.perf_counter() - start
    lua = script(folder, [msgspec.json.encode(each) for each in questions(community, 400)], "/access/v1/evaluation")
    port = free_port()
    serve = (sys.executable, "-m", "ask_above", "serve", "--quiet", "--port", str(port))
    with running(*serve, port=port, cwd=folder) as url:
        throughput(url, lua, 1)
        _, still = throughput(url, lua, 5)
        charter = folder / "charter.yaml"

        def state() -> str:
            return str(httpx.get(f"{url}/ready").json()["state"])

        known = state()
        command = ["wrk", "-t1", "-c8", "-d12s", "--latency", "-s", str(lua), url]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as asking:
            time.sleep(1)
            start = time.perf_counter()
            charter.write_text(charter.read_text().replace("title: Place 7\n", "title: Place seven\n"))
            while state() == known:
                time.sleep(0.05)
            taken = time.perf_counter() - start
            said = asking.communicate()[0]
        value, unit = re.search(r"99%\s+([\d.]+)(us|ms|s)", said).groups()  # type: ignore[union-attr]
        busy = float(value) * {"us": 0.001, "ms": 1.0, "s": 1000.0}[unit]
    print(
        f"a large charter edited by hand: answered from after {taken:.1f} s, {taken / opening:.2f} openings; "
        f"p99 {busy / still:.2f} times that of a still community ({busy:.2f} ms)"
    )


def change(folder: Path, seconds: float) -> None:
    start, n = time.monotonic(), 0
    member = next(iter(Community.open(folder).register.members))
    while time.monotonic() - start < seconds - 1:
        edit = Assign(member, "surveyor") if n % 2 == 0 else Unassign(member, "surveyor")
        Community.open(folder).plan(edit).apply()
        n += 1
        time.sleep(0.5)


def main() -> None:
    if sys.argv[1:2] == ["--change"]:
        change(Path(sys.argv[2]), float(sys.argv[3]))
        return
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 3.0
    if shutil.which("wrk") is None:
        sys.exit("wrk is not installed.")
    with tempfile.TemporaryDirectory() as made:
        demo, large = Path(made) / "demo", Path(made) / "standard"
        subprocess.run([sys.executable, "-m", "ask_above", "demo", str(demo)], stdout=subprocess.DEVNULL, check=False)
        one_evaluation("the demo", demo, seconds)
        a_hundred(demo, seconds)
        write(large)
        one_evaluation("the standard community", large, seconds)
        while_it_changes(demo, seconds)
        while_it_is_edited(large)


if __name__ == "__main__":
    main()
