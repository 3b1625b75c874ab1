"""A real OpenLDAP server for the tests, on the loopback, with people and groups of sister societies."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from threading import Thread

BASE = "dc=sisters,dc=example"
PASSWORD = "only here"  # noqa: S105 (of a server that lives for a test)


def program() -> str | None:
    return shutil.which("slapd") or ("/usr/sbin/slapd" if Path("/usr/sbin/slapd").exists() else None)


def societies(people: int, groups: int) -> str:
    """An LDIF file: so many people, each in two of so many groups; three groups hold others, one of them in a ring."""
    parts = [
        f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: Sisters\ndc: sisters\n",
        f"dn: ou=people,{BASE}\nobjectClass: organizationalUnit\nou: people\n",
        f"dn: ou=groups,{BASE}\nobjectClass: organizationalUnit\nou: groups\n",
    ]
    inside: dict[int, list[str]] = {n: [] for n in range(groups)}
    for n in range(people):
        dn = f"uid=person{n},ou=people,{BASE}"
        parts.append(
            f"dn: {dn}\nobjectClass: inetOrgPerson\nuid: person{n}\ncn: Person Number {n}\nsn: {n}\n"
            f"mail: person{n}@sisters.example\nemployeeNumber: {1000 + n}\n"
            f"{'userPassword: reader' + chr(10) if n == 1 else ''}"
        )
        for group in {n % groups, (n * 7 + 3) % groups}:
            inside[group].append(dn)
    inside[1].append(f"cn=group 0,ou=groups,{BASE}")
    inside[2].append(f"cn=group 1,ou=groups,{BASE}")
    inside[0].append(f"cn=group 2,ou=groups,{BASE}")
    for group, members in inside.items():
        lines = "".join(f"member: {dn}\n" for dn in members)
        parts.append(f"dn: cn=group {group},ou=groups,{BASE}\nobjectClass: groupOfNames\ncn: group {group}\n{lines}")
    return "\n".join(parts)


def certificate(folder: Path) -> tuple[Path, Path]:
    """Make a certificate that vouches for itself, and for the loopback; returns it and its key."""
    cert, key = folder / "cert.pem", folder / "key.pem"
    subject = ["-subj", "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1,DNS:localhost"]
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", *subject]
    subprocess.run([*command, "-keyout", str(key), "-out", str(cert)], check=True, capture_output=True)
    return cert, key


@contextmanager
def cut_after(url: str, count: int) -> Iterator[str]:
    """Let everything through to a server, and cut the line after so many bytes of what it says; gives the URL."""
    where = url.rpartition(":")
    listening = socket.create_server(("127.0.0.1", 0))
    left = [count]

    def carry(one: socket.socket, other: socket.socket, *, counted: bool) -> None:
        with suppress(OSError):
            while data := one.recv(4096):
                left[0] -= len(data) if counted else 0
                if left[0] < 0:
                    break
                other.sendall(data)
        for each in (one, other):
            with suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)

    def accept() -> None:
        with suppress(OSError):
            while True:
                here, _ = listening.accept()
                there = socket.create_connection(("127.0.0.1", int(where[2])))
                Thread(target=carry, args=(here, there), kwargs={"counted": False}, daemon=True).start()
                Thread(target=carry, args=(there, here), kwargs={"counted": True}, daemon=True).start()

    Thread(target=accept, daemon=True).start()
    yield f"ldap://127.0.0.1:{listening.getsockname()[1]}"
    listening.close()


@contextmanager
def slapd(
    folder: Path, ldif: str, *, secure: bool = False, both: bool = False, total: str = "unlimited"
) -> Iterator[str]:
    """Run the server on a free port of the loopback; gives its URL.

    ``secure``: over TLS, by cert.pem in the folder; ``both``: which is begun once the line stands. ``total``: how many
    entries a search gives in all, over its pages.
    """
    server = program()
    if server is None:
        raise RuntimeError("no slapd")
    data = folder / "slapd"
    data.mkdir(parents=True)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    own: tuple[str, ...] = ()
    if secure:
        cert, key = certificate(folder)
        own = (f"TLSCertificateFile {cert}", f"TLSCertificateKeyFile {key}")
    lines = (
        *own,
        *(f"include /etc/ldap/schema/{name}.schema" for name in ("core", "cosine", "inetorgperson")),
        "modulepath /usr/lib/ldap",
        "moduleload back_mdb",
        f"pidfile {data}/pid",
        "database mdb",
        "maxsize 1073741824",
        f"suffix {BASE}",
        f"rootdn cn=admin,{BASE}",
        f'rootpw "{PASSWORD}"',
        f"directory {data}",
        "access to * by anonymous auth by * read",
        f"limits * size.soft=500 size.hard=500 size.pr=none size.prtotal={total}",
    )
    (folder / "slapd.conf").write_text("\n".join(lines) + "\n")
    (folder / "data.ldif").write_text(ldif)
    add = [
        str(Path(server).with_name("slapadd")),
        "-q",
        "-f",
        str(folder / "slapd.conf"),
        "-l",
        str(folder / "data.ldif"),
    ]
    subprocess.run(add, check=True, capture_output=True)
    url = f"ldap{'s' if secure and not both else ''}://127.0.0.1:{port}"
    process = subprocess.Popen(
        [server, "-f", str(folder / "slapd.conf"), "-h", url, "-d", "0"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        for _ in range(200):
            with socket.socket() as one:
                if one.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield url
    finally:
        process.terminate()
        process.wait(20)
